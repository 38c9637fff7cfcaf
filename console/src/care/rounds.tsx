import { Box, Button, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { api, ask, type NewRound, Refusal, type Round } from '../api/client';
import { date, inDays, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useList } from '../lib/use-list';
import { useSettled } from '../lib/use-settled';
import { useMe } from '../session/me';
import { ExpressionField } from '../shared/expression';
import { PeoplePicker } from '../shared/people-picker';
import { questions, roundStates, sharesOf, silences } from '../shared/rounds';
import { Choice, Loading, More, Nothing, Panel, Trouble } from '../ui/parts';
import { Shares } from '../ui/share';

/** Rounds are dated requests to those who own groups to confirm them. */
export default function Rounds() {
  const may = useMe().may.includes('change_review');
  const [open, setOpen] = useState(false);
  const list = useList<Round>({
    key: ['round', 'list'],
    read: (_, cursor) => ask(api.GET('/api/v1/rounds', { params: { query: { cursor, limit: 50 } } })),
  });
  return (
    <Stack gap="5">
      {may && (
        <Box>
          {open ? (
            <Begin onDone={() => setOpen(false)} />
          ) : (
            <Button size="sm" colorPalette="ivy" onClick={() => setOpen(true)}>
              Begin a round…
            </Button>
          )}
        </Box>
      )}
      <Trouble error={list.error} retry={list.retry} />
      {!list.loaded && !list.error && <Loading what="the rounds" />}
      {list.loaded && list.rows.length === 0 && (
        <Nothing title="There was no round yet.">
          <Text>In a round, those who own groups confirm by a day that these are needed and right.</Text>
        </Nothing>
      )}
      <Stack as="ul" gap="4" listStyleType="none">
        {list.rows.map((r) => (
          <Box as="li" key={r.id} bg="bg.panel" borderWidth="1px" borderRadius="lg" p="4">
            <HStack justify="space-between" align="baseline" wrap="wrap" mb="2">
              <Link to={`/care/rounds/${r.id}`} style={{ fontWeight: 600, fontSize: '1.1rem' }}>
                {r.name}
              </Link>
              <Text fontSize="sm" color="fg.muted">
                {r.state === 'open'
                  ? `to be answered ${r.days_left < 0 ? `by ${date(r.due_on)}` : inDays(r.due_on, r.days_left)}`
                  : `${roundStates[r.state]}, ${date(r.closed_at ?? r.due_on)}`}
                {r.next_on && ` · again on ${date(r.next_on)}`}
              </Text>
            </HStack>
            <Shares label={r.name} shares={sharesOf(r.counts)} />
          </Box>
        ))}
      </Stack>
      <More list={list} />
    </Stack>
  );
}

const numbers = (text: string) =>
  text
    .split(/[\s,]+/)
    .filter(Boolean)
    .map((s) => (/^\d+$/.test(s) ? Number(s) : -1));

/** Begin asks what a round is to be, shows what it would do, and begins it. */
function Begin({ onDone }: { onDone: () => void }) {
  const navigate = useNavigate();
  const me = useMe();
  const [name, setName] = useState('');
  const [filter, setFilter] = useState('');
  const [asks, setAsks] = useState<string[]>(['needed', 'people']);
  const [due, setDue] = useState(() =>
    new Date(new Date(me.now.slice(0, 10)).getTime() + 42 * 86_400_000).toISOString().slice(0, 10),
  );
  const [reminders, setReminders] = useState('14, 3');
  const [standIn, setStandIn] = useState<{ address: string; name: string }>();
  const [silence, setSilence] = useState('nothing');
  const [months, setMonths] = useState('0');
  const [note, setNote] = useState('');
  const body = {
    name: name.trim(),
    questions: asks,
    due_on: due,
    reminders: numbers(reminders),
    silence,
    ...(filter.trim() ? { filter: filter.trim() } : {}),
    ...(standIn ? { stand_in: standIn.address } : {}),
    ...(months !== '0' ? { every_months: Number(months) } : {}),
    ...(note.trim() ? { note: note.trim() } : {}),
  } as NewRound;
  const text = JSON.stringify(body);
  const asked = useSettled(text, 400);
  const preview = useQuery({
    queryKey: ['round', 'preview', asked],
    enabled: name.trim() !== '' && asked === text,
    queryFn: () => ask(api.POST('/api/v1/rounds/preview', { body: JSON.parse(asked) as NewRound })),
  });
  const begin = useChange(['round', 'post', 'me'], () => ask(api.POST('/api/v1/rounds', { body })), {
    onSuccess: (r) => void navigate(`/care/rounds/${r.id}`),
  });
  const problems = [
    ...(preview.data?.problems ?? []),
    ...(preview.error instanceof Refusal ? preview.error.problems : []),
    ...(begin.error instanceof Refusal ? begin.error.problems : []),
  ];
  const says = (field: string) => problems.find((p) => p.field === field || p.field.startsWith(`${field}[`))?.says;
  const wrong = (field: string) => says(field) && <Text className="warn">{says(field)}</Text>;
  const p = asked === text ? preview.data : undefined;
  return (
    <Panel title="A new round">
      <Stack gap="4" fontSize="sm">
        <Box as="label" maxW="26rem">
          <Text fontWeight="600" mb="1">
            What people call it
          </Text>
          <Input size="sm" placeholder="Autumn round" value={name} onChange={(e) => setName(e.target.value)} />
          {wrong('name')}
        </Box>
        <Box>
          <Text fontWeight="600" mb="1">
            About which groups
          </Text>
          <ExpressionField
            label="About the groups where"
            list="groups"
            rows={1}
            placeholder="All living groups, or such as: external gt 0"
            value={filter}
            onChange={setFilter}
          />
          {wrong('filter')}
        </Box>
        <Box as="fieldset">
          <Text as="legend" fontWeight="600" mb="1">
            What is to be confirmed
          </Text>
          {questions.map(([q, words]) => (
            <HStack as="label" key={q}>
              <input
                type="checkbox"
                checked={asks.includes(q)}
                onChange={(e) => setAsks(e.target.checked ? [...asks, q] : asks.filter((x) => x !== q))}
              />
              {words}
            </HStack>
          ))}
          {wrong('questions')}
        </Box>
        <HStack align="start" wrap="wrap" gap="5">
          <Box as="label">
            <Text fontWeight="600" mb="1">
              The last day to answer
            </Text>
            <Input size="sm" type="date" w="11rem" value={due} onChange={(e) => setDue(e.target.value)} />
            {wrong('due_on')}
          </Box>
          <Box as="label">
            <Text fontWeight="600" mb="1">
              Reminders, days before it
            </Text>
            <Input size="sm" w="11rem" value={reminders} onChange={(e) => setReminders(e.target.value)} />
            {wrong('reminders')}
          </Box>
          <Box w="20rem">
            <Choice label="When nobody answers" value={silence} choices={silences} onChange={setSilence} />
            {wrong('silence')}
          </Box>
          <Box w="11rem">
            <Choice
              label="Again"
              value={months}
              choices={[
                ['0', 'once'],
                ['3', 'every 3 months'],
                ['6', 'every 6 months'],
                ['12', 'every year'],
                ['24', 'every 2 years'],
              ]}
              onChange={setMonths}
            />
            {wrong('every_months')}
          </Box>
        </HStack>
        <Box maxW="26rem">
          <Text fontWeight="600" mb="1">
            For groups without owners:{' '}
            {standIn ? (
              <>
                {standIn.name}{' '}
                <Button size="2xs" variant="ghost" colorPalette="gray" onClick={() => setStandIn(undefined)}>
                  Their caretakers instead
                </Button>
              </>
            ) : (
              'their caretakers'
            )}
          </Text>
          <PeoplePicker
            label="Who answers for groups without owners"
            placeholder="Or somebody else"
            taken={[]}
            onPick={(address, n) => setStandIn({ address, name: n })}
          />
          {wrong('stand_in')}
        </Box>
        <Box as="label" maxW="40rem">
          <Text fontWeight="600" mb="1">
            A note for the letters
          </Text>
          <Input size="sm" value={note} onChange={(e) => setNote(e.target.value)} />
        </Box>
        {p && (
          <Box aria-live="polite">
            <Text fontWeight="600">{p.says}</Text>
            {p.effects.map((e) => (
              <Text key={`${e.field}${e.to}`}>{e.says}</Text>
            ))}
          </Box>
        )}
        {problems.length === 0 && <Trouble error={preview.error ?? begin.error} />}
        <HStack>
          <Button
            size="sm"
            colorPalette="ivy"
            disabled={!p || p.problems.length > 0}
            loading={begin.isPending}
            onClick={() => begin.mutate()}
          >
            {p && p.problems.length === 0 ? `Ask about ${plural(p.effects[0]?.count ?? 0, 'group')}` : 'Ask'}
          </Button>
          <Button size="sm" variant="ghost" colorPalette="gray" onClick={onDone}>
            Leave it
          </Button>
        </HStack>
      </Stack>
    </Panel>
  );
}
