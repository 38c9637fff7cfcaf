import { Button, Heading, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useParams } from 'react-router';
import { api, ask } from '../api/client';
import { useChange } from '../lib/use-change';
import { Frame } from '../ui/frame';
import { Loading, Trouble } from '../ui/parts';

/** Proof is where a letter leads by which somebody from outside proves an address, and so joins a group or asks to. */
export default function Proof() {
  const { secret = '' } = useParams();
  const path = { secret };
  const read = useQuery({
    queryKey: ['joining', 'proof', secret],
    queryFn: () => ask(api.GET('/api/v1/public/proofs/{secret}', { params: { path } })),
    refetchOnWindowFocus: false,
  });
  const prove = useChange([], () => ask(api.POST('/api/v1/public/proofs/{secret}', { params: { path } })));
  const p = prove.data ?? read.data;
  return (
    <Frame width="34rem">
      <Trouble error={p ? null : read.error} />
      {!p && !read.error && <Loading what="the link" />}
      {p && (
        <Stack gap="3">
          <Text color="fg.muted">{p.address} and</Text>
          <Heading as="h1" size="2xl">
            {p.group.name}
          </Heading>
          <Text color="fg.muted">{p.group.address}</Text>
          {p.description && <Text>{p.description}</Text>}
          <Text fontWeight={p.outcome === 'open' ? undefined : '600'} role="status">
            {p.says}
          </Text>
          <Trouble error={prove.error} />
          {p.outcome === 'open' && p.joining !== 'closed' && (
            <Button alignSelf="start" colorPalette="ivy" loading={prove.isPending} onClick={() => prove.mutate()}>
              {p.joining === 'freely' ? `Join ${p.group.name}` : `Ask to be in ${p.group.name}`}
            </Button>
          )}
        </Stack>
      )}
    </Frame>
  );
}
