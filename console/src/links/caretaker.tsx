import { Button, Heading, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useParams } from 'react-router';
import { api, ask } from '../api/client';
import { useChange } from '../lib/use-change';
import { Frame } from '../ui/frame';
import { Loading, Trouble } from '../ui/parts';

/** Caretaker asks somebody outside whether they take care of groups without owners. */
export default function Caretaker() {
  const { secret = '' } = useParams();
  const path = { secret };
  const read = useQuery({
    queryKey: ['life', 'care', secret],
    queryFn: () => ask(api.GET('/api/v1/caretaking/{secret}', { params: { path } })),
  });
  const agree = useChange(['life'], () => ask(api.POST('/api/v1/caretaking/{secret}', { params: { path } })));
  const asked = agree.data ?? read.data;
  return (
    <Frame width="34rem">
      <Trouble error={read.error ?? agree.error} />
      {!asked && !read.error && <Loading what="what you are asked" />}
      {asked && (
        <Stack gap="3">
          <Text color="fg.muted">{asked.address}</Text>
          <Heading as="h1" size="2xl">
            Take care of groups that nobody owns?
          </Heading>
          <Text>
            You would get the letters that their owners would get: above all before one of them expires, with a link to
            renew it.
          </Text>
          {asked.agreed ? (
            <Text role="status" fontWeight="600">
              You have agreed. Thank you.
            </Text>
          ) : (
            <Button colorPalette="ivy" alignSelf="start" loading={agree.isPending} onClick={() => agree.mutate()}>
              I agree
            </Button>
          )}
        </Stack>
      )}
    </Frame>
  );
}
