import { Box, Button, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { api, ask, type Delivery, type Group, type Post } from '../api/client';
import { moment } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useList } from '../lib/use-list';
import { useSettled } from '../lib/use-settled';
import { Choice, Loading, More, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';

/** Posts lists the messages to a group, and what became of each. */
export function Posts({ group: g }: { group: Group }) {
  const list = useList({
    key: ['post', 'posts', g.id],
    read: (_, cursor) =>
      ask(api.GET('/api/v1/groups/{ref}/posts', { params: { path: { ref: g.id }, query: { cursor, limit: 20 } } })),
  });
  const decides = g.may?.includes('decide_posts') ?? false;
  return (
    <Panel title="What became of messages">
      {list.error ? (
        <Trouble error={list.error} retry={list.retry} />
      ) : !list.loaded ? (
        <Loading what="the messages" />
      ) : list.rows.length === 0 ? (
        <Text color="fg.muted">
          {decides
            ? 'Nobody has written to it in the last 30 days.'
            : 'In the last 30 days you have not written to it, and nothing in it was for you.'}
        </Text>
      ) : (
        <Stack gap="0">
          {list.rows.map((p) => (
            <One key={p.id} post={p} decides={decides} />
          ))}
          <More list={list} />
        </Stack>
      )}
    </Panel>
  );
}

function One({ post: p, decides }: { post: Post; decides: boolean }) {
  const [open, setOpen] = useState(false);
  return (
    <Box borderTopWidth="1px" py="2.5" _first={{ borderTopWidth: 0 }}>
      <HStack align="start" gap="3">
        <Box flex="1" minW="0" fontSize="sm">
          <Text fontWeight="600" overflowWrap="anywhere">
            {p.subject || '(no subject)'}
          </Text>
          <Text color="fg.muted" overflowWrap="anywhere">
            {p.author}, {moment(p.received_at)}
          </Text>
          <Text>{p.trouble ? <span className="warn">{p.says}</span> : p.says}</Text>
        </Box>
        <Button
          size="2xs"
          variant="ghost"
          colorPalette="gray"
          aria-expanded={open}
          aria-label={`${open ? 'Less' : 'More'} about: ${p.subject}`}
          onClick={() => setOpen(!open)}
        >
          {open ? 'Less' : 'More'}
        </Button>
      </HStack>
      {open && <Inside post={p} decides={decides} />}
    </Box>
  );
}

const states = {
  handed_over: 'handed over',
  returned: 'came back',
  refused: 'refused',
  trying: 'tried again',
  waiting: 'waits for its turn',
} as const;

function Inside({ post: p, decides }: { post: Post; decides: boolean }) {
  const [state, setState] = useState('');
  const [who, setWho] = useState('');
  const recipient = useSettled(who.trim(), 400);
  const list = useList({
    key: ['post', 'deliveries', p.id, state, recipient],
    read: (_, cursor) =>
      ask(
        api.GET('/api/v1/posts/{id}/deliveries', {
          params: {
            path: { id: p.id },
            query: {
              cursor,
              limit: 50,
              ...(state ? { state: state as Delivery['state'] } : {}),
              ...(recipient.includes('@') ? { recipient } : {}),
            },
          },
        }),
      ).then((page) => ({ ...page, items: page.items.map((d) => ({ ...d, id: d.recipient })) })),
  });
  return (
    <Stack gap="2" mt="2" fontSize="sm" ps={{ base: 0, md: '4' }}>
      {p.decision.reasons.map((r) => (
        <Text key={r.rule} color="fg.muted">
          {r.says}
        </Text>
      ))}
      {p.state === 'accepted' && (
        <>
          <HStack align="end" wrap="wrap">
            <Choice
              label="Those"
              value={state}
              choices={[['', 'whom it was for'], ...Object.entries(states)]}
              onChange={setState}
            />
            <Input
              size="sm"
              maxW="18rem"
              aria-label="Of one address"
              placeholder="Did it reach this address?"
              value={who}
              onChange={(e) => setWho(e.target.value)}
            />
          </HStack>
          <Trouble error={list.error} />
          {!list.loaded && !list.error && <Loading what="whom it reached" />}
          {list.loaded && list.rows.length === 0 && <Text>Nobody whom you may see.</Text>}
          <Box as="ul" listStyleType="none">
            {list.rows.map((d) => (
              <Reached key={d.recipient} post={p} delivery={d} decides={decides} />
            ))}
          </Box>
          {list.hidden && <Text color="fg.muted">{list.hidden}</Text>}
          <More list={list} />
        </>
      )}
    </Stack>
  );
}

function Reached({ post: p, delivery: d, decides }: { post: Post; delivery: Delivery; decides: boolean }) {
  const again = useChange(
    ['post'],
    () =>
      ask(api.POST('/api/v1/posts/{id}/again', { params: { path: { id: p.id } }, body: { recipient: d.recipient } })),
    {
      onSuccess: () => toaster.create({ type: 'success', title: `It goes to ${d.recipient} again` }),
      onError: (err) => toaster.create({ type: 'error', title: 'Not sent again', description: err.message }),
    },
  );
  const done = d.state === 'handed_over' || d.state === 'returned' || d.state === 'refused';
  return (
    <HStack as="li" gap="3" py="1" wrap="wrap" borderTopWidth="1px" borderColor="border.muted">
      <Text flex="1" minW="14rem" overflowWrap="anywhere">
        {d.recipient}
      </Text>
      <Text>
        {d.state === 'refused' || d.state === 'trying' || d.state === 'returned' ? (
          <span className="warn">{states[d.state]}</span>
        ) : (
          states[d.state]
        )}
        {d.at && ` on ${moment(d.at)}`}
        {d.attempts > 1 && `, after ${d.attempts} attempts`}
        {d.state === 'trying' && d.next_at && `, next on ${moment(d.next_at)}`}
      </Text>
      {decides && done && (
        <Button
          size="2xs"
          variant="outline"
          colorPalette="gray"
          aria-label={`Send it to ${d.recipient} again`}
          loading={again.isPending}
          onClick={() => again.mutate()}
        >
          Send again
        </Button>
      )}
      {d.reply && (
        <Text flexBasis="100%" color="fg.muted" overflowWrap="anywhere">
          The mail system said: {d.reply}
        </Text>
      )}
    </HStack>
  );
}
