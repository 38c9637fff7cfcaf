import { Badge, Box, Button, Heading, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, ask, type Decided, type Member, type RoundQuestion } from '../api/client';
import { date, inDays, people, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useList } from '../lib/use-list';
import { tellDecided } from '../shared/decided';
import { PeoplePicker } from '../shared/people-picker';
import { Loading, More, Nothing, Trouble } from '../ui/parts';

type Answer = {
  ids: string[];
  answer: 'keep' | 'retire' | 'hand_over';
  confirmed?: string[];
  remove?: string[];
  to?: string;
  note?: string;
};

/** useAnswer answers for groups that I am asked to confirm. */
const useAnswer = () =>
  useChange<Answer, Decided>(
    ['round', 'post', 'group', 'member', 'life', 'me'],
    (n) => ask(api.POST('/api/v1/round-answers', { body: n as never })),
    { onSuccess: (d) => tellDecided(d) },
  );

/** Confirm is every group that I am asked to confirm: one by one, or several at once. */
export default function Confirm() {
  const list = useList<RoundQuestion>({
    key: ['round', 'mine'],
    read: (_, cursor) => ask(api.GET('/api/v1/round-questions', { params: { query: { cursor, limit: 50 } } })),
  });
  const answer = useAnswer();
  const picked = list.rows.filter((q) => list.picked.has(q.id));
  const asks = [...new Set(picked.flatMap((q) => q.questions.map((x) => x.question)))];
  return (
    <Box p={{ base: 3, md: 5 }} maxW="56rem" mx="auto">
      <Stack gap="4">
        <HStack align="baseline" wrap="wrap" gap="3">
          <Heading as="h1" size="2xl">
            To confirm
          </Heading>
          <Text color="fg.muted" aria-live="polite">
            {list.loaded && plural(list.total, 'group')}
          </Text>
        </HStack>
        <Trouble error={list.error} retry={list.retry} />
        {!list.loaded && !list.error && <Loading what="what you are asked" />}
        {list.loaded && list.rows.length === 0 && (
          <Nothing title="You are asked nothing.">
            <Text>When a round asks you to confirm groups of yours, they stand here.</Text>
          </Nothing>
        )}
        {list.rows.length > 1 && (
          <HStack wrap="wrap" fontSize="sm">
            <HStack as="label">
              <input
                type="checkbox"
                checked={picked.length === list.rows.length}
                onChange={(e) => list.pickAll(e.target.checked)}
              />
              pick all {list.rows.length}
            </HStack>
            {picked.length > 0 && (
              <Button
                size="xs"
                colorPalette="ivy"
                loading={answer.isPending}
                onClick={() => answer.mutate({ ids: picked.map((q) => q.id), answer: 'keep', confirmed: asks })}
              >
                Keep {plural(picked.length, 'group')} as they are
              </Button>
            )}
          </HStack>
        )}
        <Trouble error={answer.error} />
        {list.rows.map((q) => (
          <Question
            key={q.id}
            question={q}
            several={list.rows.length > 1}
            picked={list.picked.has(q.id)}
            onPick={(on) => list.pick(q.id, on)}
          />
        ))}
        <More list={list} />
      </Stack>
    </Box>
  );
}

function Question(props: {
  question: RoundQuestion;
  several: boolean;
  picked: boolean;
  onPick: (on: boolean) => void;
}) {
  const { question: q } = props;
  const [confirmed, setConfirmed] = useState<string[]>([]);
  const [out, setOut] = useState<string[]>([]);
  const [note, setNote] = useState('');
  const [other, setOther] = useState<'hand_over' | 'retire'>();
  const [to, setTo] = useState<{ address: string; name: string }>();
  const [open, setOpen] = useState(false);
  const answer = useAnswer();
  const all = q.questions.every((x) => confirmed.includes(x.question));
  const also = note.trim() ? { note: note.trim() } : {};
  return (
    <Box as="section" bg="bg.panel" borderWidth="1px" borderRadius="lg" p={{ base: 4, md: 5 }}>
      <HStack align="start" gap="3">
        {props.several && (
          <input
            type="checkbox"
            aria-label={`Pick ${q.group.name}`}
            style={{ marginTop: 8 }}
            checked={props.picked}
            onChange={(e) => props.onPick(e.target.checked)}
          />
        )}
        <Stack gap="3" flex="1" minW="0">
          <Box>
            <HStack justify="space-between" align="baseline" wrap="wrap">
              <Heading as="h2" size="lg">
                <Link to={`/groups/${q.group.address}`}>{q.group.name}</Link>
              </Heading>
              <Text fontSize="sm" color="fg.muted">
                {q.round}, {q.days_left < 0 ? `by ${date(q.due_on)}` : inDays(q.due_on, q.days_left)}
              </Text>
            </HStack>
            <Text fontSize="sm" color="fg.muted">
              {q.group.address}
              {q.owners.length > 0 ? ` · owned by ${q.owners.join(', ')}` : ' · nobody owns it'}
            </Text>
            {q.description && <Text mt="1">{q.description}</Text>}
            <Text mt="1">{q.sentence}</Text>
            <Text mt="1">
              {people(q.people)}
              {q.external > 0 && `, ${q.external} of them from outside`}. {since(q)}
            </Text>
            {q.note && (
              <Text mt="1" fontStyle="italic">
                {q.note}
              </Text>
            )}
          </Box>
          <Button
            size="xs"
            variant="outline"
            colorPalette="gray"
            alignSelf="start"
            aria-expanded={open}
            onClick={() => setOpen(!open)}
          >
            {open ? 'Close the list' : 'Who is in it'}
          </Button>
          {open && <People question={q} out={out} onOut={setOut} />}
          <Box as="fieldset" fontSize="sm">
            {q.questions.map((x) => (
              <HStack as="label" key={x.question} align="start">
                <input
                  type="checkbox"
                  style={{ marginTop: 4 }}
                  checked={confirmed.includes(x.question)}
                  onChange={(e) =>
                    setConfirmed(
                      e.target.checked ? [...confirmed, x.question] : confirmed.filter((y) => y !== x.question),
                    )
                  }
                />
                {x.says}
                {x.question === 'people' &&
                  out.length > 0 &&
                  `, without the ${plural(out.length, 'member')} struck out`}
              </HStack>
            ))}
          </Box>
          <Input
            size="sm"
            maxW="22rem"
            aria-label={`A note about ${q.group.name}`}
            placeholder="A note, if you like: it is kept with the answer"
            value={note}
            onChange={(e) => setNote(e.target.value)}
          />
          <HStack wrap="wrap">
            <Button
              size="sm"
              colorPalette="ivy"
              disabled={!all}
              title={all ? undefined : 'Tick what you confirm first'}
              loading={answer.isPending}
              onClick={() =>
                answer.mutate({
                  ids: [q.id],
                  answer: 'keep',
                  confirmed,
                  ...(out.length > 0 ? { remove: out } : {}),
                  ...also,
                })
              }
            >
              Keep {q.group.name}
              {out.length > 0 && `, without ${out.length}`}
            </Button>
            {q.may_change && (
              <Button
                size="sm"
                variant="outline"
                colorPalette="gray"
                aria-expanded={other === 'hand_over'}
                onClick={() => setOther(other === 'hand_over' ? undefined : 'hand_over')}
              >
                It is somebody else’s…
              </Button>
            )}
            {q.may_retire && (
              <Button
                size="sm"
                variant="outline"
                colorPalette="gray"
                aria-expanded={other === 'retire'}
                onClick={() => setOther(other === 'retire' ? undefined : 'retire')}
              >
                Not needed…
              </Button>
            )}
          </HStack>
          {other === 'hand_over' && (
            <HStack wrap="wrap" fontSize="sm">
              <Box w="16rem">
                <PeoplePicker
                  label={`Who owns ${q.group.name}`}
                  placeholder="Whose is it?"
                  taken={[]}
                  onPick={(address, name) => setTo({ address, name })}
                />
              </Box>
              {to && (
                <Button
                  size="sm"
                  colorPalette="ivy"
                  loading={answer.isPending}
                  onClick={() => answer.mutate({ ids: [q.id], answer: 'hand_over', to: to.address, ...also })}
                >
                  Hand it over to {to.name}, who is asked then
                </Button>
              )}
            </HStack>
          )}
          {other === 'retire' && (
            <HStack wrap="wrap" fontSize="sm">
              <Text>It takes no mail any more, and can be restored with everything in it.</Text>
              <Button
                size="sm"
                colorPalette="brass"
                loading={answer.isPending}
                onClick={() => answer.mutate({ ids: [q.id], answer: 'retire', ...also })}
              >
                Retire {q.group.name}
              </Button>
            </HStack>
          )}
          {q.silence === 'retire' && (
            <Text fontSize="sm" className="warn">
              If nobody answers by {date(q.due_on)}, it is retired. It can be restored.
            </Text>
          )}
          <Trouble error={answer.error} />
        </Stack>
      </HStack>
    </Box>
  );
}

/** since says what became of the group since it was confirmed last. */
function since(q: RoundQuestion): string {
  const from = q.first ? `since it was made on ${date(q.since)}` : `since it was confirmed on ${date(q.since)}`;
  if (q.came === 0 && q.left === 0) return `Nobody came or went ${from}.`;
  const parts = [q.came > 0 ? `${people(q.came)} came` : '', q.left > 0 ? `${people(q.left)} left` : ''];
  const text = parts.filter(Boolean).join(' and ');
  return `${text.charAt(0).toUpperCase()}${text.slice(1)} ${from}.`;
}

/** People lists who is in a group: who is from outside, who is new, and lets some be struck out. */
function People(props: { question: RoundQuestion; out: string[]; onOut: (out: string[]) => void }) {
  const { question: q, out } = props;
  const list = useList<Member>({
    key: ['member', 'confirm', q.group.address],
    read: (_, cursor) =>
      ask(
        api.GET('/api/v1/groups/{ref}/members', {
          params: { path: { ref: q.group.address }, query: { cursor, limit: 100 } },
        }),
      ),
  });
  return (
    <Box fontSize="sm" borderWidth="1px" borderRadius="md" maxH="20rem" overflowY="auto" p="2">
      <Trouble error={list.error} />
      {!list.loaded && !list.error && <Loading what="its people" />}
      <Stack as="ul" gap="0.5" listStyleType="none">
        {list.rows.map((m) => {
          const struck = out.includes(m.address);
          return (
            <HStack as="li" key={m.id} gap="2">
              <Text flex="1" minW="0" truncate textDecoration={struck ? 'line-through' : undefined}>
                {m.name} <Text as="span" color="fg.muted">{`<${m.address}>`}</Text>
              </Text>
              {m.role !== 'member' && <Badge colorPalette="ivy">{m.role}</Badge>}
              {m.external && <Badge colorPalette="brass">external</Badge>}
              {!q.first && m.added_at > q.since && <Badge colorPalette="gray">new</Badge>}
              {q.may_change && m.role !== 'owner' && (
                <Button
                  size="2xs"
                  variant="ghost"
                  colorPalette="gray"
                  aria-label={`${struck ? 'Leave in' : 'Take out'} ${m.name}`}
                  onClick={() => props.onOut(struck ? out.filter((x) => x !== m.address) : [...out, m.address])}
                >
                  {struck ? 'Leave in' : 'Take out'}
                </Button>
              )}
            </HStack>
          );
        })}
      </Stack>
      <More list={list} />
    </Box>
  );
}
