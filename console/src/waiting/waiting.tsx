import { Box, Button, Heading, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, ask, type Post } from '../api/client';
import { moment, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useList } from '../lib/use-list';
import { tellDecided } from '../shared/decided';
import { Requests } from '../shared/requests';
import { NotDelivered } from './undelivered';
import { Loading, More, Nothing, Panel, Trouble } from '../ui/parts';

export default function Waiting() {
  return (
    <Box p={{ base: 3, md: 5 }} maxW="56rem" mx="auto">
      <Heading as="h1" size="2xl" mb="4">
        Waiting
      </Heading>
      <Stack mb="6" gap="5">
        <Panel title="Requests to join or leave">
          <Requests />
        </Panel>
        <NotDelivered />
      </Stack>
      <Posts />
    </Box>
  );
}

/** Posts lists the posts that wait for my decision, to be decided one by one or many at once. */
function Posts() {
  const [reason, setReason] = useState('');
  const list = useList({
    key: ['post', 'waiting'],
    read: (_, cursor) => ask(api.GET('/api/v1/waiting', { params: { query: { cursor, limit: 50 } } })),
  });
  const decide = useChange(
    ['post', 'me'],
    (d: { ids: string[]; verdict: 'approve' | 'decline' }) =>
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
  const words = plural(ids.length, 'post');
  return (
    <Box as="section">
      <HStack align="baseline" mb="3" justify="space-between">
        <HStack align="baseline">
          <Heading as="h2" size="md">
            Posts
          </Heading>
          <Text color="fg.muted" fontSize="sm">
            {list.loaded && `${plural(list.total, 'post')} for you to decide, oldest first`}
          </Text>
        </HStack>
        {list.rows.length > 1 && (
          <label style={{ fontSize: '0.9rem' }}>
            <input type="checkbox" checked={all} onChange={() => list.pickAll(!all)} /> pick all {list.rows.length}
          </label>
        )}
      </HStack>
      {list.error ? (
        <Trouble error={list.error} retry={list.retry} />
      ) : !list.loaded ? (
        <Loading what="what waits" />
      ) : list.rows.length === 0 ? (
        <Nothing title="No post waits for you.">
          <Text>Posts that need approval in groups that you help to run appear here.</Text>
        </Nothing>
      ) : (
        <Stack gap="3">
          {list.rows.map((p) => (
            <Held key={p.id} post={p} picked={list.picked.has(p.id)} onPick={(on) => list.pick(p.id, on)} />
          ))}
        </Stack>
      )}
      <More list={list} />
      {ids.length > 0 && (
        <Box position="sticky" bottom="3" mt="3" bg="bg.panel" borderWidth="1px" borderRadius="lg" p="3" shadow="md">
          <Trouble error={decide.error} />
          <HStack wrap="wrap">
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
              size="sm"
              maxW="24rem"
              aria-label="Reason"
              placeholder="Reason, told to authors who are known"
              value={reason}
              onChange={(e) => setReason(e.target.value)}
            />
          </HStack>
        </Box>
      )}
    </Box>
  );
}

function Held(props: { post: Post; picked: boolean; onPick: (on: boolean) => void }) {
  const { post: p } = props;
  const [declining, setDeclining] = useState(false);
  const [reason, setReason] = useState('');
  const decide = useChange(
    ['post', 'me'],
    (verdict: 'approve' | 'decline') =>
      ask(api.POST('/api/v1/waiting/decisions', { body: { ids: [p.id], verdict, reason } })),
    { onSuccess: tellDecided },
  );
  const why = p.decision.reasons.find((r) => r.rule === p.decision.rule);
  return (
    <Panel>
      <HStack align="start" gap="3">
        <input
          type="checkbox"
          aria-label={`Pick “${p.subject}” of ${p.author}`}
          checked={props.picked}
          onChange={(e) => props.onPick(e.target.checked)}
          style={{ marginTop: 8 }}
        />
        <Stack gap="2" flex="1" minW="0">
          <Box>
            <Text fontWeight="600" fontFamily="heading" fontSize="lg" overflowWrap="anywhere">
              {p.subject || '(no subject)'}
            </Text>
            <Text fontSize="sm" overflowWrap="anywhere">
              {p.author} to <Link to={`/groups/${p.group.address}`}>{p.group.name}</Link>, {moment(p.received_at)}
            </Text>
            <Text fontSize="sm" color="fg.muted">
              {why?.says}
            </Text>
          </Box>
          <Trouble error={decide.error} />
          {declining ? (
            <HStack wrap="wrap">
              <Input
                size="sm"
                maxW="24rem"
                aria-label="Reason"
                placeholder={p.proven ? 'Reason, told to the author' : 'Reason, kept in the history'}
                value={reason}
                onChange={(e) => setReason(e.target.value)}
                autoFocus
              />
              <Button
                size="sm"
                variant="outline"
                colorPalette="red"
                loading={decide.isPending}
                onClick={() => decide.mutate('decline')}
              >
                Decline it
              </Button>
              <Button size="sm" variant="ghost" colorPalette="gray" onClick={() => setDeclining(false)}>
                Not yet
              </Button>
            </HStack>
          ) : (
            <HStack>
              <Button size="sm" colorPalette="ivy" loading={decide.isPending} onClick={() => decide.mutate('approve')}>
                Approve
              </Button>
              <Button size="sm" variant="outline" colorPalette="gray" onClick={() => setDeclining(true)}>
                Decline…
              </Button>
            </HStack>
          )}
        </Stack>
      </HStack>
    </Panel>
  );
}
