import { Box, Button, Heading, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { api, ask, type Round, type RoundGroup } from '../api/client';
import { date, inDays, moment, people, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useList } from '../lib/use-list';
import { useMe } from '../session/me';
import { roundStates, sharesOf, silences } from '../shared/rounds';
import { Choice, Fact, Loading, More, Nothing, Panel, Trouble } from '../ui/parts';
import { Shares } from '../ui/share';
import { toaster } from '../ui/toaster';

const ways = [
  ['domain', 'mail domain'],
  ['area', 'area of helpers'],
  ['owner', 'owner'],
] as const;

const states = [
  ['', 'all'],
  ['waiting', 'waiting'],
  ['kept', 'confirmed'],
  ['retired', 'retired'],
  ['silent', 'without an answer'],
  ['gone', 'gone otherwise'],
] as const;

/** RoundPage is how far a round is, what was answered, and the evidence of it. */
export default function RoundPage() {
  const { id = '' } = useParams();
  const round = useQuery({
    queryKey: ['round', id],
    queryFn: () => ask(api.GET('/api/v1/rounds/{id}', { params: { path: { id } } })),
    refetchInterval: 10_000,
  });
  if (!round.data) return round.error ? <Trouble error={round.error} /> : <Loading what="the round" />;
  const r = round.data;
  return (
    <Stack gap="5">
      <Panel>
        <HStack justify="space-between" align="start" wrap="wrap" gap="3" mb="3">
          <Box>
            <Heading as="h2" size="xl">
              {r.name}
            </Heading>
            <Text color="fg.muted">
              {r.state === 'open'
                ? `To be answered ${r.days_left < 0 ? `by ${date(r.due_on)}` : inDays(r.due_on, r.days_left)}.`
                : `It is ${roundStates[r.state]} since ${moment(r.closed_at ?? r.due_on)}.`}
            </Text>
          </Box>
          <HStack className="no-print">
            <Button asChild size="sm" variant="outline" colorPalette="gray">
              <a href={`/api/v1/exports/rounds/${r.id}`} download>
                Evidence as CSV
              </a>
            </Button>
            <Button size="sm" variant="outline" colorPalette="gray" onClick={() => window.print()}>
              Print
            </Button>
          </HStack>
        </HStack>
        <Shares label={r.name} shares={sharesOf(r.counts)} />
        <Stack as="dl" gap="1" mt="4" fontSize="sm">
          <Fact name="Groups">{r.filter ? <code>{r.filter}</code> : 'all that lived when it began'}</Fact>
          <Fact name="To confirm">{r.questions.map((q) => q.says).join('; ')}</Fact>
          <Fact name="Begun">
            {moment(r.begun_at)} by {r.by}
            {r.previous && (
              <>
                , after <Link to={`/care/rounds/${r.previous}`}>the one before</Link>
              </>
            )}
          </Fact>
          <Fact name="Reminders">
            {r.reminders.length === 0 ? 'none' : r.reminders.map((n) => `${plural(n, 'day')} before`).join(', ')}
            {r.told_at && `; last letters on ${moment(r.told_at)}`}
          </Fact>
          <Fact name="Without owner">{r.stand_in ?? 'their caretakers answer'}</Fact>
          <Fact name="No answer">{silences.find(([s]) => s === r.silence)?.[1]}</Fact>
          {r.next_on && <Fact name="Again">on {date(r.next_on)}</Fact>}
        </Stack>
        {r.state === 'open' && <Changing key={r.version} round={r} />}
      </Panel>
      <Progress id={r.id} />
      <Groups id={r.id} />
    </Stack>
  );
}

/** Changing changes the day of a round, or ends it. */
function Changing({ round: r }: { round: Round }) {
  const may = useMe().may.includes('change_review');
  const [due, setDue] = useState(r.due_on);
  const [ending, setEnding] = useState(false);
  const head = { header: { 'If-Match': `"${r.version}"` }, path: { id: r.id } };
  const change = useChange(
    ['round'],
    () => ask(api.PATCH('/api/v1/rounds/{id}', { params: head, body: { due_on: due } })),
    { onSuccess: () => toaster.create({ type: 'success', title: `It goes on until ${date(due)}` }) },
  );
  const end = useChange(['round', 'post', 'me'], () => ask(api.POST('/api/v1/rounds/{id}/end', { params: head })));
  if (!may) return null;
  return (
    <Stack gap="2" mt="4" className="no-print">
      <HStack wrap="wrap">
        <Input
          size="sm"
          type="date"
          w="11rem"
          aria-label="The last day to answer"
          value={due}
          onChange={(e) => setDue(e.target.value)}
        />
        <Button
          size="sm"
          variant="outline"
          colorPalette="ivy"
          disabled={due === r.due_on}
          loading={change.isPending}
          onClick={() => change.mutate()}
        >
          Change the day
        </Button>
        {ending ? (
          <>
            <Button size="sm" colorPalette="brass" loading={end.isPending} onClick={() => end.mutate()}>
              End {r.name}: {plural(r.counts.waiting, 'group')} without an answer
            </Button>
            <Button size="sm" variant="ghost" colorPalette="gray" onClick={() => setEnding(false)}>
              Leave it open
            </Button>
          </>
        ) : (
          <Button size="sm" variant="ghost" colorPalette="gray" onClick={() => setEnding(true)}>
            End it now…
          </Button>
        )}
      </HStack>
      <Trouble error={change.error ?? end.error} />
    </Stack>
  );
}

/** Progress is how far the parts of a round are. */
function Progress({ id }: { id: string }) {
  const [by, setBy] = useState<(typeof ways)[number][0]>('domain');
  const parts = useQuery({
    queryKey: ['round', id, 'progress', by],
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.GET('/api/v1/rounds/{id}/progress', { params: { path: { id }, query: { by } } })),
  });
  const items = parts.data?.items ?? [];
  return (
    <Panel
      title="How far it is"
      side={
        <Box w="11rem">
          <Choice label="By" value={by} choices={ways} onChange={(v) => setBy(v as 'domain')} />
        </Box>
      }
    >
      <Trouble error={parts.error} />
      {parts.data && items.length === 0 && <Text color="fg.muted">There is no area of helpers.</Text>}
      <Stack as="ul" gap="2" listStyleType="none" fontSize="sm">
        {items.slice(0, 20).map((p) => (
          <HStack as="li" key={p.name} gap="3">
            <Text w={{ base: '9rem', md: '17rem' }} truncate title={p.name || 'nobody'}>
              {p.name || 'nobody'}
            </Text>
            <Box flex="1">
              <Shares thin label={p.name || 'nobody'} shares={sharesOf(p)} />
            </Box>
            <Text w="9rem" textAlign="right" color="fg.muted">
              {p.total - p.waiting} of {p.total} done
            </Text>
          </HStack>
        ))}
      </Stack>
      {items.length > 20 && (
        <Text mt="2" fontSize="sm" color="fg.muted">
          And {plural(items.length - 20, 'other')}: the evidence has them all.
        </Text>
      )}
    </Panel>
  );
}

/** Groups are those of the round, with what was answered. */
function Groups({ id }: { id: string }) {
  const list = useList<RoundGroup>({
    key: ['round', id, 'groups'],
    filters: ['q', 'state'],
    read: (query, cursor) =>
      ask(
        api.GET('/api/v1/rounds/{id}/groups', {
          params: { path: { id }, query: { ...query, cursor, limit: 100 } as never },
        }),
      ),
  });
  return (
    <Panel title="Groups" side={<Text color="fg.muted">{plural(list.total, 'group')}</Text>}>
      <HStack mb="3" wrap="wrap" className="no-print" align="end">
        <Input
          type="search"
          size="sm"
          maxW="18rem"
          aria-label="Search groups of the round"
          placeholder="Beginning of a name or address"
          value={list.q}
          onChange={(e) => list.setQ(e.target.value)}
        />
        <Box w="12rem">
          <Choice
            label="Which"
            value={list.values('state')[0] ?? ''}
            choices={states}
            onChange={(v) => list.set('state', v)}
          />
        </Box>
      </HStack>
      <Trouble error={list.error} retry={list.retry} />
      {list.loaded && list.rows.length === 0 && <Nothing title="No group of the round is so." />}
      {list.rows.length > 0 && (
        <Box overflowX="auto">
          <table className="list">
            <thead>
              <tr>
                <th scope="col" className="about">
                  Group
                </th>
                <th scope="col" className="wide" style={{ width: '9rem' }}>
                  As it began
                </th>
                <th scope="col" style={{ width: '9rem' }}>
                  Answer
                </th>
                <th scope="col" className="wide">
                  By whom
                </th>
              </tr>
            </thead>
            <tbody>
              {list.rows.map((g) => (
                <tr key={g.id}>
                  <td>
                    <Link className="name" to={`/groups/${g.group.address}`}>
                      {g.group.name}
                    </Link>
                    <span className="under">{g.group.address}</span>
                  </td>
                  <td className="wide">
                    {people(g.people)}
                    {g.external > 0 && <span className="under">{g.external} external</span>}
                  </td>
                  <td>
                    {states.find(([s]) => s === g.state)?.[1]}
                    {g.state === 'waiting' && g.nobody && <span className="under warn">no owner</span>}
                    {g.confirmed.length > 0 && <span className="under">{g.confirmed.join(', ')}</span>}
                  </td>
                  <td className="wide" style={{ whiteSpace: 'normal' }}>
                    {g.answered_by && (
                      <>
                        {g.answered_by.name}, {g.answered_at && moment(g.answered_at)}
                        {g.via === 'link' && ', by letter'}
                      </>
                    )}
                    {(g.says ?? g.note ?? g.removed) && (
                      <span className="under" style={{ whiteSpace: 'normal' }}>
                        {[g.removed ? `without ${plural(g.removed, 'member')}` : '', g.note, g.says]
                          .filter(Boolean)
                          .join(' · ')}
                      </span>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          <More list={list} />
        </Box>
      )}
    </Panel>
  );
}
