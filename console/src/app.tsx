import { Box, Text } from '@chakra-ui/react';
import { type ComponentType, lazy, Suspense } from 'react';
import { Link, Navigate, Outlet, Route, Routes } from 'react-router';
import { MeContext, useMe, useSession } from './session/me';
import { Shell } from './shell/shell';
import { Loading, Nothing, Trouble } from './ui/parts';
import { Toaster } from './ui/toaster';

/** page is a page that is loaded when it is shown, and at once where the console is opened at its path. */
function page(path: string, load: () => Promise<{ default: ComponentType }>) {
  if (window.location.pathname === path) void load();
  return lazy(load);
}

const SignIn = lazy(() => import('./session/sign-in'));
const AskLink = lazy(() => import('./session/ask-link'));
const ChoosePassword = lazy(() => import('./session/choose-password'));
const Account = lazy(() => import('./session/account'));
const Mine = page('/mine', () => import('./mine/mine'));
const GroupList = page('/groups', () => import('./groups/list'));
const CreateGroup = lazy(() => import('./groups/create/page'));
const GroupSheet = lazy(() => import('./groups/sheet'));
const GroupPage = lazy(() => import('./groups/page'));
const Overview = lazy(() => import('./groups/overview'));
const GroupPeople = lazy(() => import('./groups/people'));
const WaysIn = lazy(() => import('./groups/ways-in'));
const Nesting = lazy(() => import('./groups/nesting'));
const Reach = lazy(() => import('./groups/reach'));
const Mail = lazy(() => import('./groups/mail'));
const Term = lazy(() => import('./groups/term'));
const GroupHistory = lazy(() => import('./groups/history'));
const PeopleList = page('/people', () => import('./people/list'));
const NewPerson = lazy(() => import('./people/new'));
const ImportPeople = lazy(() => import('./people/import'));
const Externals = lazy(() => import('./people/externals'));
const PersonPage = lazy(() => import('./people/page'));
const Waiting = page('/waiting', () => import('./waiting/waiting'));
const Care = page('/care', () => import('./care/care'));
const CareToday = page('/care', () => import('./care/today'));
const Terms = lazy(() => import('./care/terms'));
const Forecast = lazy(() => import('./care/forecast'));
const Findings = lazy(() => import('./care/findings'));
const Rounds = lazy(() => import('./care/rounds'));
const Report = lazy(() => import('./care/report'));
const RoundPage = lazy(() => import('./care/round'));
const Confirm = page('/confirm', () => import('./mine/confirm'));
const Ended = lazy(() => import('./care/ended'));
const Rules = page('/rules', () => import('./rules/rules'));
const History = page('/history', () => import('./history/history'));
const Change = lazy(() => import('./changes/change'));
const Invitation = lazy(() => import('./links/invitation'));
const PublicList = lazy(() => import('./public/list'));
const PublicPage = lazy(() => import('./public/group'));
const Proof = lazy(() => import('./public/proof'));
const OwnPart = lazy(() => import('./links/own'));
const Renew = lazy(() => import('./links/renew'));
const RoundLetter = lazy(() => import('./links/round'));
const Caretaker = lazy(() => import('./links/caretaker'));
const JoinByLink = lazy(() => import('./links/join'));

/** App is the pages of the console and their paths. The first ones need nobody to be signed in. */
export function App() {
  return (
    <Suspense fallback={<Loading what="the page" />}>
      <Routes>
        <Route path="/invitations/:secret" element={<Invitation />} />
        <Route path="/own/:secret" element={<OwnPart />} />
        <Route path="/renew/:secret" element={<Renew />} />
        <Route path="/rounds/:secret" element={<RoundLetter />} />
        <Route path="/caretaker/:secret" element={<Caretaker />} />
        <Route path="/public" element={<PublicList />} />
        <Route path="/public/:ref" element={<PublicPage />} />
        <Route path="/public/proofs/:secret" element={<Proof />} />
        <Route path="/password" element={<AskLink />} />
        <Route path="/password/:secret" element={<ChoosePassword />} />
        <Route element={<SignedIn />}>
          <Route path="/" element={<Home />} />
          <Route path="/mine" element={<Mine />} />
          <Route path="/groups">
            <Route index element={<GroupList />} />
            <Route path="new" element={<CreateGroup />} />
            <Route path="sheet" element={<GroupSheet />} />
            <Route path=":ref" element={<GroupPage />}>
              <Route index element={<Overview />} />
              <Route path="people" element={<GroupPeople />} />
              <Route path="ways-in" element={<WaysIn />} />
              <Route path="nesting" element={<Nesting />} />
              <Route path="reach" element={<Reach />} />
              <Route path="mail" element={<Mail />} />
              <Route path="term" element={<Term />} />
              <Route path="history" element={<GroupHistory />} />
            </Route>
          </Route>
          <Route path="/people">
            <Route index element={<PeopleList />} />
            <Route path="new" element={<NewPerson />} />
            <Route path="import" element={<ImportPeople />} />
            <Route path="external" element={<Externals />} />
            <Route path=":ref" element={<PersonPage />} />
          </Route>
          <Route path="/waiting" element={<Waiting />} />
          <Route path="/confirm" element={<Confirm />} />
          <Route path="/care" element={<Care />}>
            <Route index element={<CareToday />} />
            <Route path="findings" element={<Findings />} />
            <Route path="rounds" element={<Rounds />} />
            <Route path="report" element={<Report />} />
            <Route path="rounds/:id" element={<RoundPage />} />
            <Route path="terms" element={<Terms />} />
            <Route path="forecast" element={<Forecast />} />
            <Route path="ended" element={<Ended />} />
          </Route>
          <Route path="/rules" element={<Rules />} />
          <Route path="/history" element={<History />} />
          <Route path="/changes/:id" element={<Change />} />
          <Route path="/join/:secret" element={<JoinByLink />} />
          <Route path="/invitations/:secret/answer" element={<Invitation signedIn />} />
          <Route path="/account" element={<Account />} />
          <Route path="*" element={<NoPage />} />
        </Route>
      </Routes>
    </Suspense>
  );
}

/** SignedIn shows a page to whoever is signed in, and lets others sign in. */
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
  if (me === null) return <SignIn />;
  if (me.lacks_factor) {
    return (
      <MeContext value={me}>
        <Account />
        <Toaster />
      </MeContext>
    );
  }
  return (
    <MeContext value={me}>
      <Shell>
        <Outlet />
      </Shell>
    </MeContext>
  );
}

function Home() {
  return <Navigate to={useMe().workspace_role ? '/groups' : '/mine'} replace />;
}

function NoPage() {
  return (
    <Nothing title="There is no such page.">
      <Text>
        Go to <Link to="/groups">all groups</Link>.
      </Text>
    </Nothing>
  );
}
