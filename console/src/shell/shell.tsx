import {
  Box,
  Button,
  Flex,
  HStack,
  IconButton,
  Image,
  Kbd,
  Link as ChakraLink,
  Menu,
  Portal,
  Text,
} from '@chakra-ui/react';
import { Moon, Search, Sun } from 'lucide-react';
import { lazy, type ReactNode, Suspense, useState } from 'react';
import { NavLink, useLocation, useNavigate } from 'react-router';
import { useMe, useSignOut } from '../session/me';
import { Loading } from '../ui/parts';
import { Toaster } from '../ui/toaster';
import { useColours } from './colours';
import { DemoClock } from './demo-clock';
import { useFinderKeys } from './finder-keys';
import { places } from './places';

const Finder = lazy(() => import('./finder'));

/** Shell is what stands around every page: the places, the finder, the account. */
export function Shell({ children }: { children: ReactNode }) {
  const me = useMe();
  const { pathname } = useLocation();
  const [finding, setFinding] = useState(false);
  const [dark, turn] = useColours();
  useFinderKeys(() => setFinding(true));
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
          <Text fontFamily="heading" fontSize="lg" fontWeight="600" whiteSpace="nowrap">
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
            const [path, label] = places[p];
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
        <HStack ml="auto" gap={{ base: 0, md: 1 }}>
          <Button
            aria-label="Find anything"
            px={{ base: 2, md: 3.5 }}
            aria-keyshortcuts="/ Control+K"
            variant="ghost"
            size="sm"
            color="white"
            _hover={{ bg: 'ivy.700' }}
            onClick={() => setFinding(true)}
          >
            <Search /> Find{' '}
            <Kbd size="sm" hideBelow="md">
              /
            </Kbd>
          </Button>
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
          <Account />
        </HStack>
      </Flex>
      {me.demo && <DemoClock />}
      <Box as="main" id="content" flex="1" minH="0" overflowY="auto" key={pathname.split('/')[1]}>
        <Suspense fallback={<Loading what="the page" />}>{children}</Suspense>
      </Box>
      {finding && (
        <Suspense>
          <Finder onDone={() => setFinding(false)} colours={[dark, turn]} />
        </Suspense>
      )}
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

function Account() {
  const me = useMe();
  const signOut = useSignOut();
  const navigate = useNavigate();
  return (
    <Menu.Root>
      <Menu.Trigger asChild>
        <Button
          variant="ghost"
          size="sm"
          px={{ base: 2, md: 3.5 }}
          color="white"
          _hover={{ bg: 'ivy.700' }}
          _expanded={{ bg: 'ivy.700' }}
        >
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
            <Menu.Item value="account" onSelect={() => void navigate('/account')}>
              Account
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
