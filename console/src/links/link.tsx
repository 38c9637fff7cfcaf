import { Box, Button, Heading, HStack, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { api, ask, type LinkPreview } from '../api/client';
import { date } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { Frame } from '../ui/frame';
import { Loading, Trouble } from '../ui/parts';

function Card({ link: l, children }: { link: LinkPreview; children: ReactNode }) {
  if (!l.group.name) {
    return (
      // it ended, and says no more of the group
      <Stack gap="3">
        <Heading as="h1" size="2xl">
          {l.kind === 'link' ? 'This link can’t be used' : 'This invitation is closed'}
        </Heading>
        {children}
      </Stack>
    );
  }
  return (
    <Stack gap="3">
      <Text color="fg.muted">
        {l.by} {l.kind === 'link' ? 'gave out this link into' : 'invites you into'}
      </Text>
      <Heading as="h1" size="2xl">
        {l.group.name}
      </Heading>
      <Text color="fg.muted">{l.group.address}</Text>
      {l.description && <Text>{l.description}</Text>}
      <Text>{l.sentence}</Text>
      {l.owners.length > 0 && <Text fontSize="sm">It is run by {l.owners.join(', ')}.</Text>}
      {children}
    </Stack>
  );
}

/**
 * Invitation shows an invitation to whoever holds its link. An outsider answers it there; somebody of the workspace
 * signs in first, and answers it within the shell.
 */
export function Invitation({ signedIn = false }: { signedIn?: boolean }) {
  const { secret = '' } = useParams();
  const path = { secret };
  const link = useQuery({
    queryKey: ['joining', 'invitation', secret],
    queryFn: () => ask(api.GET('/api/v1/invitations/{secret}', { params: { path } })),
  });
  const answer = useChange(['joining'], (a: 'accept' | 'decline') =>
    ask(api.POST('/api/v1/invitations/{secret}', { params: { path }, body: { answer: a } })),
  );
  const l = answer.data ?? link.data;
  const page = (
    <>
      <Trouble error={link.error} />
      {!l && !link.error && <Loading what="the invitation" />}
      {l && (
        <Card link={l}>
          {l.state === 'open' ? (
            <>
              <Text fontSize="sm">
                The invitation is for <b>{l.for}</b> and ends on {date(l.expires_at)}. Nothing happens until you answer.
              </Text>
              <Trouble error={answer.error} />
              {l.sign_in && !signedIn ? (
                <Button asChild colorPalette="ivy" alignSelf="start">
                  <Link to={`/invitations/${secret}/answer`}>Sign in as {l.for}</Link>
                </Button>
              ) : (
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
              )}
            </>
          ) : (
            <Text fontWeight="600" role="status">
              {l.state === 'accepted'
                ? l.group.address
                  ? `You accepted: mail to ${l.group.address} reaches ${l.for}.`
                  : 'You accepted it.'
                : l.state === 'declined'
                  ? 'You declined. Nobody put you into it.'
                  : l.says}
            </Text>
          )}
        </Card>
      )}
    </>
  );
  return signedIn ? <Inside>{page}</Inside> : <Frame width="34rem">{page}</Frame>;
}

/** Inside is a page of a link below the shell. */
function Inside({ children }: { children: ReactNode }) {
  return (
    <Box p="5" maxW="34rem" mx="auto">
      <Box bg="bg.panel" borderWidth="1px" borderRadius="xl" p={{ base: 5, md: 8 }}>
        {children}
      </Box>
    </Box>
  );
}

/** JoinByLink lets somebody who is signed in enter a group by a link. */
export function JoinByLink() {
  const { secret = '' } = useParams();
  const navigate = useNavigate();
  const path = { secret };
  const link = useQuery({
    queryKey: ['joining', 'link', secret],
    queryFn: () => ask(api.GET('/api/v1/join-links/{secret}', { params: { path } })),
  });
  const join = useChange(
    ['group', 'member', 'joining', 'me'],
    () => ask(api.POST('/api/v1/join-links/{secret}', { params: { path } })),
    { onSuccess: () => void navigate(`/groups/${link.data?.group.address}`) },
  );
  const l = link.data;
  return (
    <Inside>
      <Trouble error={link.error} />
      {!l && !link.error && <Loading what="the link" />}
      {l && (
        <Card link={l}>
          <Trouble error={join.error} />
          {l.state === 'open' ? (
            <Button alignSelf="start" colorPalette="ivy" loading={join.isPending} onClick={() => join.mutate()}>
              Join {l.group.name}
            </Button>
          ) : (
            <Text fontWeight="600">{l.says}</Text>
          )}
        </Card>
      )}
    </Inside>
  );
}
