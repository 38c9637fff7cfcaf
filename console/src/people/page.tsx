import { Badge, Box, Button, Grid, Heading, HStack, Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { api, ask, type PersonDetails, Refusal } from '../api/client';
import { date, plural } from '../lib/dates';
import { type Subject, useChange } from '../lib/use-change';
import { HistoryList } from '../shared/history';
import { PeoplePicker } from '../shared/people-picker';
import { MailPause } from '../shared/mail-pause';
import { Loading, Nothing, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';
import { Erase } from './erase';
import { Entry } from './entry';
import { PersonAbilities } from './abilities';
import { Moving } from './moving';

/** What a change of the directory touches: rules of membership follow it. */
const touched: Subject[] = ['person', 'group', 'member', 'rule', 'life'];

export default function PersonPage() {
  const { ref = '' } = useParams();
  const person = useQuery({
    queryKey: ['person', ref],
    queryFn: () => ask(api.GET('/api/v1/people/{ref}', { params: { path: { ref } } })),
  });
  if (person.error instanceof Refusal && person.error.status === 404) {
    return (
      <Nothing title={person.error.message}>
        <Link to="/people">All people</Link>
      </Nothing>
    );
  }
  if (person.error)
    return (
      <Box p="5">
        <Trouble error={person.error} retry={() => void person.refetch()} />
      </Box>
    );
  const p = person.data;
  if (!p) return <Loading what="the person" />;
  const may = p.may.includes('change_directory');
  return (
    <Box p={{ base: 3, md: 5 }} maxW="76rem" mx="auto">
      <Stack gap="1" mb="5">
        <HStack gap="3" align="baseline" wrap="wrap">
          <Heading as="h1" size="3xl">
            {p.name}
          </Heading>
          {p.workspace_role && <Badge colorPalette="ivy">{p.workspace_role}</Badge>}
          {p.external && <Badge colorPalette="brass">external</Badge>}
          {!p.active && <Badge colorPalette="brass">has left{p.departed_at && ` on ${date(p.departed_at)}`}</Badge>}
        </HStack>
        <Text color="fg.muted">
          <a href={`mailto:${p.address}`}>{p.address}</a>
        </Text>
      </Stack>
      <Grid templateColumns={{ base: 'minmax(0, 1fr)', lg: '3fr 2fr' }} gap="5" alignItems="start">
        <Stack gap="5">
          <Groups person={p} />
          {p.reached_by.length > 0 && <Reached person={p} />}
          {p.waiting.length > 0 && <Asked person={p} />}
          {p.active && <Moving person={p} />}
          {p.may.includes('read_reach') && <PersonAbilities person={p.id} />}
          {p.may.includes('read_workspace_history') && (
            <Box>
              <Heading as="h2" size="md" mb="2">
                What they did, and what was done to them
              </Heading>
              <HistoryList person={p.id} />
            </Box>
          )}
        </Stack>
        <Stack gap="5">
          <Entry person={p} may={may && !p.external} />
          {may && p.active && <MailPause person={p} />}
          {may && !p.external && p.active && <SignsIn person={p} />}
          {may && !p.external && (p.active ? <Departure person={p} /> : <Return person={p} />)}
          {may && (p.external || !p.active) && <Erase person={p} />}
        </Stack>
      </Grid>
    </Box>
  );
}

/** Reached are the groups that reach somebody through groups nested in them. */
function Reached({ person: p }: { person: PersonDetails }) {
  return (
    <Panel title={`Reached by ${plural(p.reached_by.length, 'group')} around these`}>
      <Stack as="ul" gap="1" listStyleType="none" fontSize="sm">
        {p.reached_by.map((g) => (
          <li key={g.address}>
            <Link className="name" to={`/groups/${g.address}`}>
              {g.name}
            </Link>{' '}
            <Text as="span" color="fg.muted">
              through {g.through.join(', ')}
            </Text>
          </li>
        ))}
      </Stack>
    </Panel>
  );
}

/** Asked is what somebody asked for that nobody has decided yet. */
function Asked({ person: p }: { person: PersonDetails }) {
  return (
    <Panel title="Waits for a decision">
      <Stack as="ul" gap="1" listStyleType="none" fontSize="sm">
        {p.waiting.map((w) => (
          <li key={w.id}>
            Asked on {date(w.at)} to {w.kind} <Link to={`/groups/${w.group.address}`}>{w.group.name}</Link>
          </li>
        ))}
      </Stack>
    </Panel>
  );
}

function Groups({ person: p }: { person: PersonDetails }) {
  return (
    <Panel title={p.groups.length === 1 ? 'In 1 group' : `In ${p.groups.length} groups`}>
      {p.groups.length === 0 ? (
        <Text color="fg.muted" fontSize="sm">
          In no group that you can see into.
        </Text>
      ) : (
        <Box overflowX="auto">
          <table className="list" style={{ minWidth: '32rem' }}>
            <thead>
              <tr>
                <th scope="col">Group</th>
                <th scope="col" style={{ width: '11rem' }}>
                  Role
                </th>
                <th scope="col" style={{ width: '7.5rem' }}>
                  Since
                </th>
              </tr>
            </thead>
            <tbody>
              {p.groups.map((g) => (
                <tr key={g.address}>
                  <td>
                    <Link className="name" to={`/groups/${g.address}`}>
                      {g.name}
                    </Link>
                    {g.ended && ' (ended)'}
                    <span className="under">{g.address}</span>
                  </td>
                  <td>
                    {g.last_owner ? <span className="warn">the only owner</span> : g.role}
                    {g.by_rule && <span className="under">by rule</span>}
                    {g.until && <span className="under">until {date(g.until)}</span>}
                  </td>
                  <td>{date(g.since)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Box>
      )}
    </Panel>
  );
}

function SignsIn({ person: p }: { person: PersonDetails }) {
  const send = useChange(
    ['person'],
    () => ask(api.POST('/api/v1/people/{ref}/password-link', { params: { path: { ref: p.id } } })),
    { onSuccess: () => toaster.create({ type: 'success', title: `A link is on its way to ${p.address}` }) },
  );
  return (
    <Panel title="Signing in">
      <Stack gap="2">
        <Text fontSize="sm">
          {p.signs_in
            ? `${p.name} has a password. With a link by mail they choose a new one; until then the present one holds.`
            : `${p.name} has no password yet and can't sign in. Mail reaches them all the same.`}
        </Text>
        <Trouble error={send.error} />
        <Button
          size="sm"
          alignSelf="start"
          variant="outline"
          colorPalette={p.signs_in ? 'gray' : 'ivy'}
          loading={send.isPending}
          onClick={() => send.mutate()}
        >
          Mail a link to choose a password
        </Button>
      </Stack>
    </Panel>
  );
}

function Departure({ person: p }: { person: PersonDetails }) {
  const [open, setOpen] = useState(false);
  const [successor, setSuccessor] = useState<{ address: string; name: string } | null>(null);
  const path = { ref: p.id };
  const body = successor ? { successor: successor.address } : {};
  const preview = useQuery({
    queryKey: ['person', 'departure', p.id, p.version, successor?.address],
    enabled: open,
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.POST('/api/v1/people/{ref}/departure/preview', { params: { path }, body })),
  });
  const depart = useChange(
    touched,
    () =>
      ask(
        api.POST('/api/v1/people/{ref}/departure', {
          params: { path, header: { 'If-Match': `"${p.version}"` } },
          body,
        }),
      ),
    { onSuccess: () => toaster.create({ type: 'success', title: `${p.name} has left` }) },
  );
  const last = preview.data?.sample ?? [];
  const ownerless = last.filter((g) => g.outcome === 'ownerless');
  const byRule = successor ? [] : last.filter((g) => g.outcome === 'handed_over');
  return (
    <Panel title="Leaves the organisation">
      {!open ? (
        <Button size="sm" variant="outline" colorPalette="gray" onClick={() => setOpen(true)}>
          {p.name} leaves…
        </Button>
      ) : (
        <Stack gap="3">
          <Text fontSize="sm">{preview.data?.says}</Text>
          {preview.data?.problems.map((x) => (
            <Trouble key={x.field} error={x.says} />
          ))}
          {last.length > 0 && (
            <>
              {ownerless.length > 0 && (
                <Text fontSize="sm">
                  <span className="warn">Nobody else owns</span> {ownerless.map((g) => g.name).join(', ')}.
                </Text>
              )}
              {byRule.map((g) => (
                <Text key={g.address} fontSize="sm">
                  {g.name} goes to {g.to}, by the rules for departures.
                </Text>
              ))}
              {successor ? (
                <Button
                  size="xs"
                  alignSelf="start"
                  variant="subtle"
                  colorPalette="ivy"
                  onClick={() => setSuccessor(null)}
                >
                  {successor.name} takes over ×
                </Button>
              ) : (
                <PeoplePicker
                  label="Who takes them over"
                  placeholder="Begin to type a name"
                  taken={[p.address]}
                  onPick={(address, name) => setSuccessor({ address, name })}
                />
              )}
            </>
          )}
          <Trouble error={preview.error ?? depart.error} />
          <HStack wrap="wrap">
            <Button
              size="sm"
              variant="outline"
              colorPalette="red"
              disabled={!preview.data || preview.data.problems.length > 0}
              loading={depart.isPending}
              onClick={() => depart.mutate()}
            >
              {ownerless.length > 0 && !successor
                ? `Leave ${plural(ownerless.length, 'group')} without an owner, and mark it`
                : successor && last.length > 0
                  ? `Hand ${plural(last.length, 'group')} to ${successor.name}, and mark it`
                  : `Mark that ${p.name} has left`}
            </Button>
            <Button size="sm" variant="ghost" colorPalette="gray" onClick={() => setOpen(false)}>
              Not yet
            </Button>
          </HStack>
        </Stack>
      )}
    </Panel>
  );
}

function Return({ person: p }: { person: PersonDetails }) {
  const back = useChange(
    touched,
    () =>
      ask(
        api.DELETE('/api/v1/people/{ref}/departure', {
          params: { path: { ref: p.id }, header: { 'If-Match': `"${p.version}"` } },
        }),
      ),
    { onSuccess: () => toaster.create({ type: 'success', title: `${p.name} is here again` }) },
  );
  return (
    <Panel title="Is here again">
      <Stack gap="2">
        <Text fontSize="sm">They are in their groups as before, and groups with a rule take them in.</Text>
        <Trouble error={back.error} />
        <Button
          size="sm"
          alignSelf="start"
          variant="outline"
          colorPalette="ivy"
          loading={back.isPending}
          onClick={() => back.mutate()}
        >
          {p.name} returns
        </Button>
      </Stack>
    </Panel>
  );
}
