import { Box, Button, HStack, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, ask, type Undelivered } from '../api/client';
import { moment } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useList } from '../lib/use-list';
import { tellDecided } from '../shared/decided';
import { Loading, More, Panel, Trouble } from '../ui/parts';

/** NotDelivered lists mail that could not be handed to everybody, or not yet. There is nothing where all has gone out. */
export function NotDelivered() {
  const list = useList({
    key: ['post', 'undelivered'],
    read: (_, cursor) => ask(api.GET('/api/v1/undelivered', { params: { query: { cursor, limit: 20 } } })),
  });
  if (list.error) return <Trouble error={list.error} retry={list.retry} />;
  if (!list.loaded) return <Loading what="what was not delivered" />;
  if (list.rows.length === 0) return null;
  return (
    <Panel title="Not delivered">
      <Stack gap="4">
        {list.rows.map((u) => (
          <One key={u.id} mail={u} />
        ))}
      </Stack>
      <More list={list} />
    </Panel>
  );
}

function One({ mail: u }: { mail: Undelivered }) {
  const [open, setOpen] = useState(false);
  const retry = useChange(['post'], () => ask(api.POST('/api/v1/undelivered/retries', { body: { ids: [u.id] } })), {
    onSuccess: tellDecided,
  });
  return (
    <Box borderTopWidth="1px" pt="3" _first={{ borderTopWidth: 0, pt: 0 }}>
      <Text fontWeight="600" overflowWrap="anywhere">
        {u.subject || '(no subject)'}
      </Text>
      <Text fontSize="sm" overflowWrap="anywhere">
        {u.author}
        {u.group && (
          <>
            {' to '}
            <Link to={`/groups/${u.group.address}`}>{u.group.name}</Link>
          </>
        )}
        , {moment(u.received_at)}
      </Text>
      <Text fontSize="sm" overflowWrap="anywhere">
        {u.says}
      </Text>
      <Text fontSize="sm" color="fg.muted">
        {u.next_at ? `It is tried again by itself, next on ${moment(u.next_at)}.` : 'It is not tried again by itself.'}
      </Text>
      {open && (
        <Box as="ul" fontSize="sm" mt="2" ps="5" listStyleType="disc">
          {u.recipients.map((r) => (
            <li key={r.address}>
              {r.address}: {r.reply} {r.given_up ? '(given up)' : '(tried again)'}
            </li>
          ))}
          {u.hidden && <li>{u.hidden}</li>}
        </Box>
      )}
      <Trouble error={retry.error} />
      <HStack mt="2">
        <Button size="sm" colorPalette="ivy" variant="outline" loading={retry.isPending} onClick={() => retry.mutate()}>
          Try again now
        </Button>
        {(u.recipients.length > 0 || u.hidden) && (
          <Button size="sm" variant="ghost" colorPalette="gray" aria-expanded={open} onClick={() => setOpen(!open)}>
            {open ? 'Hide who' : 'Who did not get it'}
          </Button>
        )}
      </HStack>
    </Box>
  );
}
