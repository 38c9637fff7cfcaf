import { Box, Button, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useInfiniteQuery, useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, ask } from '../api/client';
import { date, plural } from '../ui/dates';
import { Loading, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';

/** Requests lists requests to join or leave, of one group or of all that I run, to be decided many at once. */
export function Requests({ group }: { group?: string }) {
  const [picked, setPicked] = useState<string[]>([]);
  const [reason, setReason] = useState('');
  const list = useInfiniteQuery({
    queryKey: ['requests', group],
    initialPageParam: '',
    queryFn: ({ pageParam }) => {
      const query = { cursor: pageParam, limit: 100 };
      return group
        ? ask(api.GET('/api/v1/groups/{ref}/requests', { params: { path: { ref: group }, query } }))
        : ask(api.GET('/api/v1/requests', { params: { query } }));
    },
    getNextPageParam: (last) => last.next || undefined,
  });
  const decide = useMutation({
    mutationFn: (d: { ids: string[]; verdict: string }) =>
      ask(api.POST('/api/v1/requests/decisions', { body: { requests: d.ids, verdict: d.verdict, reason } })),
    onSuccess: (done, d) => {
      const refused = done.filter((x) => x.outcome === 'refused');
      toaster.create({
        type: refused.length ? 'warning' : 'success',
        title: `${plural(done.length - refused.length, 'request')} ${d.verdict === 'approve' ? 'approved' : 'declined'}`,
        description: refused.map((x) => x.says).join(' '),
      });
      setPicked([]);
      setReason('');
    },
  });
  if (list.error) return <Trouble error={list.error} retry={() => void list.refetch()} />;
  if (!list.data) return <Loading what="requests" />;
  const rows = list.data.pages.flatMap((p) => p.items);
  if (rows.length === 0) {
    return (
      <Text color="fg.muted" fontSize="sm">
        Nobody asks to join or to leave.
      </Text>
    );
  }
  const all = picked.length === rows.length;
  const bar = (ids: string[], words: string) => (
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
        maxW="22rem"
        aria-label="Reason"
        placeholder="Reason, mailed to those who asked"
        value={reason}
        onChange={(e) => setReason(e.target.value)}
      />
    </HStack>
  );
  return (
    <Stack gap="2">
      <HStack fontSize="sm" justify="space-between">
        <label>
          <input type="checkbox" checked={all} onChange={() => setPicked(all ? [] : rows.map((r) => r.id))} /> pick all{' '}
          {rows.length}
        </label>
        <Text color="fg.muted">oldest first</Text>
      </HStack>
      <Stack as="ul" gap="0" listStyleType="none" borderWidth="1px" borderRadius="md">
        {rows.map((r) => (
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
              checked={picked.includes(r.id)}
              onChange={(e) => setPicked(e.target.checked ? [...picked, r.id] : picked.filter((x) => x !== r.id))}
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
      {picked.length > 0 && bar(picked, plural(picked.length, 'request'))}
      {list.hasNextPage && (
        <Button
          size="sm"
          variant="outline"
          colorPalette="gray"
          alignSelf="start"
          onClick={() => void list.fetchNextPage()}
        >
          Show more
        </Button>
      )}
    </Stack>
  );
}
