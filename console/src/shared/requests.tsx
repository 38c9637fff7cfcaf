import { Box, Button, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, ask } from '../api/client';
import { date, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useList } from '../lib/use-list';
import { Loading, More, Trouble } from '../ui/parts';
import { tellDecided } from './decided';

/** Requests lists requests to join or leave, of one group or of all that I run, to be decided many at once. */
export function Requests({ group }: { group?: string }) {
  const [reason, setReason] = useState('');
  const list = useList({
    key: ['joining', 'requests', group],
    read: (_, cursor) => {
      const query = { cursor, limit: 100 };
      return group
        ? ask(api.GET('/api/v1/groups/{ref}/requests', { params: { path: { ref: group }, query } }))
        : ask(api.GET('/api/v1/requests', { params: { query } }));
    },
  });
  const decide = useChange(
    ['joining', 'group', 'member', 'me'],
    (verdict: 'approve' | 'decline') =>
      ask(api.POST('/api/v1/requests/decisions', { body: { ids: [...list.picked], verdict, reason } })),
    {
      onSuccess: (done) => {
        tellDecided(done);
        list.pickAll(false);
        setReason('');
      },
    },
  );
  if (list.error) return <Trouble error={list.error} retry={list.retry} />;
  if (!list.loaded) return <Loading what="requests" />;
  if (list.rows.length === 0) {
    return (
      <Text color="fg.muted" fontSize="sm">
        Nobody asks to join or to leave.
      </Text>
    );
  }
  const all = list.picked.size === list.rows.length;
  const words = plural(list.picked.size, 'request');
  return (
    <Stack gap="2">
      <HStack fontSize="sm" justify="space-between">
        <label>
          <input type="checkbox" checked={all} onChange={() => list.pickAll(!all)} /> pick all {list.rows.length}
        </label>
        <Text color="fg.muted">oldest first</Text>
      </HStack>
      <Stack as="ul" gap="0" listStyleType="none" borderWidth="1px" borderRadius="md">
        {list.rows.map((r) => (
          <HStack
            as="li"
            key={r.id}
            align="start"
            gap="3"
            px="3"
            py="2"
            borderBottomWidth="1px"
            _last={{ borderBottomWidth: 0 }}
          >
            <input
              type="checkbox"
              aria-label={`Pick the request of ${r.person.name} to ${r.kind} ${r.group.name}`}
              checked={list.picked.has(r.id)}
              onChange={(e) => list.pick(r.id, e.target.checked)}
              style={{ marginTop: 5 }}
            />
            <Box minW="0" flex="1">
              <Text>
                <b>{r.person.name}</b> asks to {r.kind}{' '}
                {group ? 'it' : <Link to={`/groups/${r.group.address}`}>{r.group.name}</Link>}
              </Text>
              <Text fontSize="sm" color="fg.muted" overflowWrap="anywhere">
                {[r.person.address, r.about, `since ${date(r.made_at)}`].filter(Boolean).join(' · ')}
              </Text>
              {r.note && <Text fontSize="sm">“{r.note}”</Text>}
            </Box>
          </HStack>
        ))}
      </Stack>
      <Trouble error={decide.error} />
      {list.picked.size > 0 && (
        <HStack wrap="wrap">
          <Button size="sm" colorPalette="ivy" loading={decide.isPending} onClick={() => decide.mutate('approve')}>
            Approve {words}
          </Button>
          <Button
            size="sm"
            variant="outline"
            colorPalette="red"
            loading={decide.isPending}
            onClick={() => decide.mutate('decline')}
          >
            Decline {words}
          </Button>
          <Input
            size="sm"
            maxW="22rem"
            aria-label="Reason"
            placeholder="Reason, mailed to those who asked"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          />
        </HStack>
      )}
      <More list={list} />
    </Stack>
  );
}
