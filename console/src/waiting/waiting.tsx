import { Box, Button, Heading, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useInfiniteQuery, useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, ask } from '../api/client';
import type { components } from '../api/schema.gen';
import { moment, plural } from '../ui/dates';
import { Loading, Nothing, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';
import { Requests } from './requests';

export default function Waiting() {
  const waiting = useInfiniteQuery({
    queryKey: ['waiting'],
    initialPageParam: '',
    queryFn: ({ pageParam }) => ask(api.GET('/api/v1/waiting', { params: { query: { cursor: pageParam } } })),
    getNextPageParam: (last) => last.next || undefined,
  });
  const rows = waiting.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <Box p={{ base: 3, md: 5 }} maxW="56rem" mx="auto">
      <HStack align="baseline" mb="4">
        <Heading as="h1" size="2xl">
          Waiting
        </Heading>
      </HStack>
      <Stack mb="6">
        <Panel title="Requests to join or leave">
          <Requests />
        </Panel>
      </Stack>
      <HStack align="baseline" mb="3">
        <Heading as="h2" size="md">
          Posts
        </Heading>
        <Text color="fg.muted" fontSize="sm">
          {waiting.data && `${plural(waiting.data.pages[0]?.total ?? 0, 'post')} for you to decide, oldest first`}
        </Text>
      </HStack>
      {waiting.error ? (
        <Trouble error={waiting.error} retry={() => void waiting.refetch()} />
      ) : !waiting.data ? (
        <Loading what="what waits" />
      ) : rows.length === 0 ? (
        <Nothing title="No post waits for you.">
          <Text>Posts that need approval in groups that you help to run appear here.</Text>
        </Nothing>
      ) : (
        <Stack gap="3">
          {rows.map((p) => (
            <Held key={p.id} post={p} />
          ))}
        </Stack>
      )}
      {waiting.hasNextPage && (
        <Button mt="3" size="sm" variant="outline" colorPalette="gray" onClick={() => void waiting.fetchNextPage()}>
          Show more
        </Button>
      )}
    </Box>
  );
}

function Held({ post: p }: { post: components['schemas']['Post'] }) {
  const [declining, setDeclining] = useState(false);
  const [reason, setReason] = useState('');
  const decide = useMutation({
    mutationFn: (verdict: string) =>
      ask(api.POST('/api/v1/waiting/{id}', { params: { path: { id: p.id } }, body: { verdict, reason } })),
    onSuccess: (_, verdict) =>
      toaster.create({
        type: 'success',
        title: verdict === 'approve' ? `“${p.subject}” goes to ${p.group.name}` : `“${p.subject}” is declined`,
      }),
  });
  const why = p.decision.reasons.find((r) => r.rule === p.decision.rule);
  return (
    <Panel>
      <Stack gap="2">
        <Box>
          <Text fontWeight="600" fontFamily="heading" fontSize="lg">
            {p.subject || '(no subject)'}
          </Text>
          <Text fontSize="sm">
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
    </Panel>
  );
}
