import { Box, Button, Flex, HStack, IconButton, Image, Link as ChakraLink, Menu, Portal, Text } from '@chakra-ui/react';
import { useMutation } from '@tanstack/react-query';
import { Moon, Sun } from 'lucide-react';
import { lazy, type ReactNode, Suspense, useEffect, useState } from 'react';
import { Link, Navigate, NavLink, Route, Routes, useLocation, useNavigate } from 'react-router';
import { api, ask, type Me } from './api/client';
import { MeContext, useMe, useSession, useSignOut } from './session/me';
import { date } from './ui/dates';
import { Loading, Nothing, Trouble } from './ui/parts';
import { Toaster } from './ui/toaster';

const SignIn = lazy(() => import('./session/sign-in'));
const AskLink = lazy(() => import('./session/ask-link'));
const ChoosePassword = lazy(() => import('./session/choose-password'));
const ChangePassword = lazy(() => import('./session/change-password'));
const GroupList = lazy(() => import('./groups/list'));
const CreateGroup = lazy(() => import('./groups/create'));
const GroupPage = lazy(() => import('./groups/page'));
const Waiting = lazy(() => import('./waiting/waiting'));
const Care = lazy(() => import('./care/care'));
const HistoryPage = lazy(() => import('./history/history'));
const Mine = lazy(() => import('./mine/mine'));
const PeopleList = lazy(() => import('./people/list'));
const PersonPage = lazy(() => import('./people/page'));
const NewPerson = lazy(() => import('./people/new'));
const ImportPeople = lazy(() => import('./people/import'));
const Rules = lazy(() => import('./rules/rules'));
const Invitation = lazy(() => import('./offers/invitation'));
const JoinByLink = lazy(() => import('./offers/join'));

const places: Record<string, [path: string, label: string]> = {
  mine: ['/mine', 'Mine'],
  groups: ['/groups', 'Groups'],
  people: ['/people', 'People'],
  waiting: ['/waiting', 'Waiting'],
  care: ['/care', 'Care'],
  rules: ['/rules', 'Rules'],
  history: ['/history', 'History'],
};

export function App() {
  const { pathname } = useLocation();
  if (/^\/(invitations|password)\b/.test(pathname)) {
    return (
      <Suspense fallback={<Loading what="the page" />}>
        <Routes>
          <Route path="/invitations/:secret" element={<Invitation />} />
          <Route path="/password" element={<AskLink />} />
          <Route path="/password/:secret" element={<ChoosePassword />} />
        </Routes>
      </Suspense>
    );
  }
  return <SignedIn />;
}

function SignedIn() {
  const { me, error, retry } = useSession();
  if (error) {
    return (
      <Box p="8">
        <Trouble error={error} retry={() => void retry()} />
      </Box>
    );
  }
  if (me === undefined) return <Loading what="Ivy Table" />;
  if (me === null) {
    return (
      <Suspense fallback={<Loading what="Ivy Table" />}>
        <SignIn />
      </Suspense>
    );
  }
  return (
    <MeContext value={me}>
      <Shell me={me}>
        <Routes>
          <Route path="/" element={<Navigate to={me.workspace_role ? '/groups' : '/mine'} replace />} />
          <Route path="/mine" element={<Mine />} />
          <Route path="/groups" element={<GroupList />} />
          <Route path="/groups/new" element={<CreateGroup />} />
          <Route path="/groups/:ref" element={<GroupPage />} />
          <Route path="/groups/:ref/:tab" element={<GroupPage />} />
          <Route path="/people" element={<PeopleList />} />
          <Route path="/people/new" element={<NewPerson />} />
          <Route path="/people/import" element={<ImportPeople />} />
          <Route path="/people/:ref" element={<PersonPage />} />
          <Route path="/rules" element={<Rules />} />
          <Route path="/my-password" element={<ChangePassword />} />
          <Route path="/join/:secret" element={<JoinByLink />} />
          <Route path="/waiting" element={<Waiting />} />
          <Route path="/care" element={<Care />} />
          <Route path="/history" element={<HistoryPage />} />
          <Route
            path="*"
            element={
              <Nothing title="There is no such page.">
                <Text>
                  Go to <Link to="/groups">all groups</Link>.
                </Text>
              </Nothing>
            }
          />
        </Routes>
      </Shell>
    </MeContext>
  );
}

function Shell({ me, children }: { me: Me; children: ReactNode }) {
  const { pathname } = useLocation();
  useEffect(() => {
    const search = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLElement && /INPUT|TEXTAREA|SELECT/.test(e.target.tagName);
      if ((e.key === '/' && !typing) || (e.key === 'k' && (e.ctrlKey || e.metaKey))) {
        const field = document.querySelector<HTMLInputElement>('[data-search]');
        if (field) {
          e.preventDefault();
          field.focus();
        }
      }
    };
    window.addEventListener('keydown', search);
    return () => window.removeEventListener('keydown', search);
  }, []);
  return (
    <Flex direction="column" h="100vh">
      <ChakraLink
        href="#content"
        position="absolute"
        left="-999px"
        _focus={{ left: 2, top: 2, zIndex: 10, bg: 'bg.panel', p: 2 }}
      >
        Skip to the page
      </ChakraLink>
      <Flex
        as="header"
        bg="ivy.800"
        color="white"
        align="center"
        px={{ base: 3, md: 5 }}
        gap={{ base: 2, md: 5 }}
        minH="3.25rem"
        flexShrink="0"
        wrap="wrap"
      >
        <HStack gap="2" py="2">
          <Image src="/leaf.svg" alt="" w="7" bg="white" borderRadius="md" p="0.5" />
          <Text fontFamily="heading" fontSize="lg" fontWeight="600">
            Ivy Table
          </Text>
        </HStack>
        <HStack
          as="nav"
          aria-label="Places"
          gap="0"
          order={{ base: 3, md: 0 }}
          w={{ base: 'full', md: 'auto' }}
          overflowX="auto"
        >
          {me.places.map((p) => {
            const [path, label] = places[p] ?? ['/', p];
            return (
              <NavLink
                key={p}
                to={path}
                style={({ isActive }) => ({
                  ...tab,
                  borderBottomColor: isActive ? '#dbb452' : 'transparent',
                  fontWeight: isActive ? 600 : 400,
                })}
              >
                {label}
                {p === 'waiting' && me.waiting > 0 && (
                  <Text as="span" ml="1.5" px="1.5" borderRadius="full" bg="brass.300" color="brass.950" fontSize="xs">
                    {me.waiting}
                  </Text>
                )}
              </NavLink>
            );
          })}
        </HStack>
        <HStack ml="auto" gap="1">
          <ColourMode />
          <Account />
        </HStack>
      </Flex>
      {me.demo && <DemoClock />}
      <Box as="main" id="content" flex="1" minH="0" overflowY="auto" key={pathname.split('/')[1]}>
        <Suspense fallback={<Loading what="the page" />}>{children}</Suspense>
      </Box>
      <Toaster />
    </Flex>
  );
}

const tab = {
  padding: '0 0.75rem',
  display: 'flex',
  alignItems: 'center',
  minHeight: '3.25rem',
  borderBottom: '3px solid',
  color: 'white',
};

function ColourMode() {
  const [dark, setDark] = useState(document.documentElement.classList.contains('dark'));
  const turn = () => {
    const next = !dark;
    document.documentElement.classList.toggle('dark', next);
    document.documentElement.classList.toggle('light', !next);
    document.documentElement.style.colorScheme = next ? 'dark' : 'light';
    localStorage.setItem('colour-mode', next ? 'dark' : 'light');
    setDark(next);
  };
  return (
    <IconButton
      aria-label={dark ? 'Use light colours' : 'Use dark colours'}
      variant="ghost"
      size="sm"
      color="white"
      _hover={{ bg: 'ivy.700' }}
      onClick={turn}
    >
      {dark ? <Sun /> : <Moon />}
    </IconButton>
  );
}

function Account() {
  const me = useMe();
  const signOut = useSignOut();
  const navigate = useNavigate();
  return (
    <Menu.Root>
      <Menu.Trigger asChild>
        <Button variant="ghost" size="sm" color="white" _hover={{ bg: 'ivy.700' }} _expanded={{ bg: 'ivy.700' }}>
          {me.name}
        </Button>
      </Menu.Trigger>
      <Portal>
        <Menu.Positioner>
          <Menu.Content>
            <Box px="2" py="1" fontSize="sm" color="fg.muted">
              {me.address}
              {me.workspace_role && <Text>{me.workspace_role}</Text>}
            </Box>
            <Menu.Item value="password" onSelect={() => void navigate('/my-password')}>
              Change password
            </Menu.Item>
            <Menu.Item value="out" onSelect={() => void signOut()}>
              Sign out
            </Menu.Item>
          </Menu.Content>
        </Menu.Positioner>
      </Portal>
    </Menu.Root>
  );
}

/** DemoClock shows the day of the demo, which an administrator can move. */
function DemoClock() {
  const me = useMe();
  const move = useMutation({ mutationFn: (days: number) => ask(api.POST('/api/v1/demo/clock', { body: { days } })) });
  const ahead = me.days_ahead;
  return (
    <HStack
      as="aside"
      aria-label="The day of the demo"
      bg="brass.subtle"
      color="brass.fg"
      borderBottomWidth="1px"
      px={{ base: 3, md: 5 }}
      py="1"
      fontSize="sm"
      gap="3"
      wrap="wrap"
    >
      <Text>
        Sample workspace Merrow Line. Its day is {date(me.now)}
        {ahead > 0 && `, ${ahead} days ahead`}.
      </Text>
      {me.workspace_role === 'administrator' && (
        <HStack gap="1">
          {[1, 15, 30].map((days) => (
            <Button
              key={days}
              size="2xs"
              variant="outline"
              colorPalette="brass"
              loading={move.isPending}
              onClick={() => move.mutate(days)}
            >
              {days === 1 ? 'a day on' : `${days} days on`}
            </Button>
          ))}
          {ahead > 0 && (
            <Button size="2xs" variant="ghost" colorPalette="brass" onClick={() => move.mutate(0)}>
              back to today
            </Button>
          )}
        </HStack>
      )}
      <Trouble error={move.error} />
    </HStack>
  );
}
