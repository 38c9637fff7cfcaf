import { Badge, Box, Button, Heading, HStack, Input, Kbd, Stack, Text } from '@chakra-ui/react';
import { type KeyboardEvent, useRef, useState } from 'react';
import { Link } from 'react-router';
import { api, ask, type Waiting as Item } from '../api/client';
import { moment, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useList } from '../lib/use-list';
import { tellDecided } from '../shared/decided';
import { Loading, More, Nothing, Trouble } from '../ui/parts';
import { Held } from './held';
import { NotDelivered } from './undelivered';

const kinds = [
  ['post', 'Posts'],
  ['join', 'Asking to join'],
  ['leave', 'Asking to leave'],
  ['rule', 'Held back by a guard'],
  ['nest', 'Groups in others'],
  ['round', 'Groups to confirm'],
] as const;

type Verdict = 'approve' | 'decline';
type Consent = 'counted' | 'seen';

export default function Waiting() {
  return (
    <Box p={{ base: 3, md: 5 }} maxW="60rem" mx="auto">
      <All />
      <Box mt="8">
        <NotDelivered />
      </Box>
    </Box>
  );
}

/** All is all that waits for my decision, to be decided one by one or many at once, by pointer or by keyboard. */
function All() {
  const [reason, setReason] = useState('');
  const [open, setOpen] = useState('');
  const reasonField = useRef<HTMLInputElement>(null);
  const rows = useRef<HTMLDivElement>(null);
  const list = useList({
    key: ['post', 'waiting'],
    filters: ['kind', 'group'],
    read: ({ kind, group }, cursor) => {
      const query = { kind: [kind ?? []].flat() as Item['kind'][], cursor, limit: 50 };
      return ask(
        typeof group === 'string'
          ? api.GET('/api/v1/groups/{ref}/waiting', { params: { path: { ref: group }, query } })
          : api.GET('/api/v1/waiting', { params: { query } }),
      );
    },
  });
  const decide = useChange(
    ['post', 'joining', 'rule', 'group', 'member', 'me'],
    (d: { ids: string[]; verdict: Verdict; consent?: Consent; author?: 'trust' | 'bar' }) =>
      ask(api.POST('/api/v1/waiting/decisions', { body: { ...d, reason } })),
    {
      onSuccess: (done) => {
        tellDecided(done);
        list.pickAll(false);
        setReason('');
      },
    },
  );
  const ids = [...list.picked];
  const all = list.rows.length > 0 && ids.length === list.rows.length;
  const chosen = list.values('kind');
  const one = (id: string, verdict: Verdict, consent?: Consent) =>
    decide.mutate({ ids: [id], verdict, ...(consent ? { consent } : {}) });
  const onKey = (e: KeyboardEvent, w: Item) => {
    if (e.target instanceof HTMLElement && e.target !== e.currentTarget) return; // within a field or on a button
    const step = { ArrowDown: 1, j: 1, ArrowUp: -1, k: -1 }[e.key];
    const at = [...(rows.current?.children ?? [])].indexOf(e.currentTarget);
    if (step !== undefined) (rows.current?.children[at + step] as HTMLElement | undefined)?.focus();
    else if (e.key === ' ') list.pick(w.id, !list.picked.has(w.id));
    else if (e.key === 'Enter' && w.kind === 'post') setOpen(open === w.id ? '' : w.id);
    else if (e.key === 'a') one(w.id, 'approve');
    else if (e.key === 'd') {
      list.pick(w.id, true);
      setTimeout(() => reasonField.current?.focus());
    } else return;
    e.preventDefault();
  };
  const words = `${ids.length.toLocaleString('en-GB')} picked`;
  return (
    <Stack gap="3">
      <HStack align="baseline" gap="3" wrap="wrap">
        <Heading as="h1" size="2xl">
          Waiting
        </Heading>
        <Text color="fg.muted" aria-live="polite">
          {list.loaded && `${plural(list.total, 'decision')} for you, the oldest first`}
        </Text>
      </HStack>
      <HStack wrap="wrap" gap="1" role="group" aria-label="Show only">
        {kinds.map(([k, label]) => (
          <Button
            key={k}
            size="xs"
            variant={chosen.includes(k) ? 'solid' : 'outline'}
            colorPalette={chosen.includes(k) ? 'ivy' : 'gray'}
            aria-pressed={chosen.includes(k)}
            onClick={() => list.set('kind', chosen.includes(k) ? chosen.filter((x) => x !== k) : [...chosen, k])}
          >
            {label}
          </Button>
        ))}
        {list.values('group').map((g) => (
          <Button key={g} size="xs" variant="subtle" colorPalette="ivy" onClick={() => list.set('group', '')}>
            group: {g} ×
          </Button>
        ))}
        {list.rows.length > 1 && (
          <HStack as="label" ml="auto" fontSize="sm">
            <input type="checkbox" checked={all} onChange={() => list.pickAll(!all)} /> pick all {list.rows.length}
          </HStack>
        )}
      </HStack>
      {list.error ? (
        <Trouble error={list.error} retry={list.retry} />
      ) : !list.loaded ? (
        <Loading what="what waits" />
      ) : list.rows.length === 0 ? (
        <Nothing title={list.filtered ? 'Nothing of this kind waits for you.' : 'Nothing waits for you.'}>
          <Text>Posts, requests and changes that need a decision in groups that you help to run appear here.</Text>
        </Nothing>
      ) : (
        <Stack as="ul" ref={rows} gap="0" listStyleType="none" bg="bg.panel" borderWidth="1px" borderRadius="lg">
          {list.rows.map((w, i) => (
            <Row
              key={w.id}
              item={w}
              first={i === 0}
              picked={list.picked.has(w.id)}
              busy={decide.isPending}
              onPick={(on) => list.pick(w.id, on)}
              onDecide={(verdict, consent) => one(w.id, verdict, consent)}
              onAuthor={(author) =>
                decide.mutate({ ids: [w.id], verdict: author === 'trust' ? 'approve' : 'decline', author })
              }
              open={open === w.id}
              onOpen={() => setOpen(open === w.id ? '' : w.id)}
              onKeyDown={(e) => onKey(e, w)}
            />
          ))}
        </Stack>
      )}
      <More list={list} />
      {list.rows.length > 0 && (
        <Text fontSize="xs" color="fg.muted" hideBelow="md">
          By keyboard: <Kbd>↓</Kbd> <Kbd>↑</Kbd> go through them, <Kbd>Enter</Kbd> reads a post, <Kbd>a</Kbd> approves,{' '}
          <Kbd>d</Kbd> declines with a reason, <Kbd>space</Kbd> picks.
        </Text>
      )}
      <Trouble error={decide.error} />
      {ids.length > 0 && (
        <HStack
          position="sticky"
          bottom="3"
          bg="bg.panel"
          borderWidth="1px"
          borderRadius="lg"
          p="3"
          shadow="md"
          wrap="wrap"
        >
          <Button
            size="sm"
            colorPalette="ivy"
            loading={decide.isPending}
            onClick={() => decide.mutate({ ids, verdict: 'approve' })}
          >
            Approve {words}
          </Button>
          <Button
            size="sm"
            variant="outline"
            colorPalette="red"
            loading={decide.isPending}
            onClick={() => decide.mutate({ ids, verdict: 'decline' })}
          >
            Decline {words}
          </Button>
          <Input
            ref={reasonField}
            size="sm"
            maxW="24rem"
            aria-label="Reason"
            placeholder="Reason, told to who asked or wrote"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
            onKeyDown={(e) => {
              if (e.key === 'Enter') decide.mutate({ ids, verdict: 'decline' });
            }}
          />
        </HStack>
      )}
    </Stack>
  );
}

const words = { post: 'post', join: 'to join', leave: 'to leave', rule: 'rule', nest: 'group', round: 'to confirm' };

function Row(props: {
  item: Item;
  first: boolean;
  picked: boolean;
  busy: boolean;
  onPick: (on: boolean) => void;
  onDecide: (verdict: Verdict, consent?: Consent) => void;
  onAuthor: (author: 'trust' | 'bar') => void;
  open: boolean;
  onOpen: () => void;
  onKeyDown: (e: KeyboardEvent) => void;
}) {
  const { item: w } = props;
  const who = w.who.name || w.group.name;
  const what =
    w.kind === 'post' || w.kind === 'rule'
      ? `“${w.subject}” of ${who}`
      : w.kind === 'nest'
        ? `that ${w.group.name} is in ${who}`
        : w.kind === 'round'
          ? `that ${w.group.name} is needed and right`
          : `the request of ${who} to ${w.kind} ${w.group.name}`;
  return (
    <HStack
      as="li"
      tabIndex={0}
      align="start"
      wrap={{ base: 'wrap', md: 'nowrap' }}
      gap="3"
      px="4"
      py="3"
      borderTopWidth={props.first ? '0' : '1px'}
      onKeyDown={props.onKeyDown}
      _focusVisible={{ outline: '2px solid', outlineColor: 'ivy.focusRing', outlineOffset: '-2px' }}
    >
      <input
        type="checkbox"
        tabIndex={-1}
        aria-label={`Pick ${what}`}
        checked={props.picked}
        onChange={(e) => props.onPick(e.target.checked)}
        style={{ marginTop: 6 }}
      />
      <Stack gap="0.5" flex="1" minW={{ base: '14rem', md: '0' }}>
        <HStack gap="2" wrap="wrap">
          <Badge colorPalette={w.kind === 'rule' ? 'brass' : 'gray'}>{words[w.kind]}</Badge>
          <Text fontWeight="600" overflowWrap="anywhere">
            {w.kind === 'post' || w.kind === 'rule'
              ? w.subject || '(no subject)'
              : w.kind === 'nest'
                ? `${w.group.name} in ${w.who.name}`
                : w.kind === 'round'
                  ? w.subject
                  : w.who.name}
          </Text>
        </HStack>
        <Text fontSize="sm" overflowWrap="anywhere">
          {w.kind === 'post' && `${w.who.address} to `}
          {w.kind === 'join' && 'asks to join '}
          {w.kind === 'leave' && 'asks to leave '}
          {w.kind === 'nest' && `You are asked for `}
          {w.kind === 'round' && `You are asked about `}
          <Link to={`/groups/${w.group.address}`}>{w.group.name}</Link>, since {moment(w.at)}
        </Text>
        <Text fontSize="sm" color="fg.muted" overflowWrap="anywhere">
          {[w.kind === 'join' || w.kind === 'leave' ? w.subject && `“${w.subject}”` : '', w.says]
            .filter(Boolean)
            .join(' · ')}
        </Text>
        {w.kind === 'post' && (
          <Box>
            <Button
              size="xs"
              variant="plain"
              colorPalette="ivy"
              px="0"
              aria-expanded={props.open}
              aria-label={`${props.open ? 'Close it' : 'Read it'}: ${what}`}
              onClick={props.onOpen}
            >
              <u>{props.open ? 'Close it' : 'Read it'}</u>
            </Button>
            {props.open && <Held id={w.id} busy={props.busy} onAuthor={props.onAuthor} />}
          </Box>
        )}
      </Stack>
      <HStack>
        <Button
          size="xs"
          colorPalette="ivy"
          disabled={props.busy}
          aria-label={`${w.kind === 'nest' ? 'Agree: counted' : w.kind === 'round' ? 'Keep' : 'Approve'} ${what}`}
          title={w.kind === 'nest' ? 'Its people are counted there, not shown' : undefined}
          onClick={() => props.onDecide('approve')}
        >
          {w.kind === 'nest' ? 'Agree: counted' : w.kind === 'round' ? 'Keep as it is' : 'Approve'}
        </Button>
        {w.kind === 'nest' && (
          <Button
            size="xs"
            variant="outline"
            colorPalette="ivy"
            disabled={props.busy}
            aria-label={`Agree: seen ${what}`}
            title="Whoever sees the people there sees them too"
            onClick={() => props.onDecide('approve', 'seen')}
          >
            Agree: seen
          </Button>
        )}
        {w.kind === 'round' ? (
          <Button asChild size="xs" variant="outline" colorPalette="gray">
            <Link to="/confirm">Look first</Link>
          </Button>
        ) : (
          <Button
            size="xs"
            variant="outline"
            colorPalette="gray"
            disabled={props.busy}
            aria-label={`Decline ${what}`}
            onClick={() => props.onDecide('decline')}
          >
            Decline
          </Button>
        )}
      </HStack>
    </HStack>
  );
}
