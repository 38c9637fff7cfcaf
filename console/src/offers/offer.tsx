import { Box, Button, Heading, HStack, Stack, Text } from '@chakra-ui/react';
import { useMutation, useQuery } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { useNavigate, useParams } from 'react-router';
import { api, ask, type Offer } from '../api/client';
import { date } from '../ui/dates';
import { Frame } from '../ui/frame';
import { Loading, Trouble } from '../ui/parts';

function Card({ offer: o, children }: { offer: Offer; children: ReactNode }) {
  return (
    <Stack gap="3">
      <Text color="fg.muted">
        {o.by} {o.kind === 'link' ? 'gave out this link into' : 'invites you into'}
      </Text>
      <Heading as="h1" size="2xl">
        {o.group.name}
      </Heading>
      <Text color="fg.muted">{o.group.address}</Text>
      {o.description && <Text>{o.description}</Text>}
      <Text>{o.sentence}</Text>
      {o.owners.length > 0 && <Text fontSize="sm">It is run by {o.owners.join(', ')}.</Text>}
      {children}
    </Stack>
  );
}

/** Invitation answers an invitation. It needs nobody to be signed in: the link came by mail. */
export function Invitation() {
  const { secret = '' } = useParams();
  const path = { secret };
  const offer = useQuery({
    queryKey: ['invitation', secret],
    queryFn: () => ask(api.GET('/api/v1/invitations/{secret}', { params: { path } })),
  });
  const answer = useMutation({
    mutationFn: (a: string) => ask(api.POST('/api/v1/invitations/{secret}', { params: { path }, body: { answer: a } })),
  });
  const o = answer.data ?? offer.data;
  return (
    <Frame width="34rem">
      <Trouble error={offer.error} />
      {!o && !offer.error && <Loading what="the invitation" />}
      {o && (
        <Card offer={o}>
          {o.state === 'open' ? (
            <>
              <Text fontSize="sm">
                The invitation is for <b>{o.for}</b> and ends on {date(o.expires_at)}. Nothing happens until you answer.
              </Text>
              <Trouble error={answer.error} />
              <HStack>
                <Button colorPalette="ivy" loading={answer.isPending} onClick={() => answer.mutate('accept')}>
                  Accept
                </Button>
                <Button
                  variant="outline"
                  colorPalette="gray"
                  loading={answer.isPending}
                  onClick={() => answer.mutate('decline')}
                >
                  Decline
                </Button>
              </HStack>
            </>
          ) : (
            <Text fontWeight="600" role="status">
              {o.state === 'accepted'
                ? `You accepted: mail to ${o.group.address} reaches ${o.for}.`
                : o.state === 'declined'
                  ? 'You declined. Nobody put you into it.'
                  : o.says}
            </Text>
          )}
        </Card>
      )}
    </Frame>
  );
}

/** JoinByLink lets somebody who is signed in enter a group by a link. */
export function JoinByLink() {
  const { secret = '' } = useParams();
  const navigate = useNavigate();
  const path = { secret };
  const offer = useQuery({
    queryKey: ['join-link', secret],
    queryFn: () => ask(api.GET('/api/v1/join-links/{secret}', { params: { path } })),
  });
  const join = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/join-links/{secret}', { params: { path } })),
    onSuccess: () => void navigate(`/groups/${offer.data?.group.address}`),
  });
  const o = offer.data;
  return (
    <Box p="5" maxW="34rem" mx="auto">
      <Box bg="bg.panel" borderWidth="1px" borderRadius="xl" p={{ base: 5, md: 8 }}>
        <Trouble error={offer.error} />
        {!o && !offer.error && <Loading what="the link" />}
        {o && (
          <Card offer={o}>
            <Trouble error={join.error} />
            {o.state === 'open' ? (
              <Button alignSelf="start" colorPalette="ivy" loading={join.isPending} onClick={() => join.mutate()}>
                Join {o.group.name}
              </Button>
            ) : (
              <Text fontWeight="600">{o.says}</Text>
            )}
          </Card>
        )}
      </Box>
    </Box>
  );
}
