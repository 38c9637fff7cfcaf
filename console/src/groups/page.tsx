import { Box, Heading, HStack, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { Suspense } from 'react';
import { Link, Navigate, Outlet, useLocation, useOutletContext, useParams } from 'react-router';
import { api, ask, type Group, type JoinResult, Refusal } from '../api/client';
import { useChange } from '../lib/use-change';
import { useMe } from '../session/me';
import type { Delivery } from '../shared/delivery';
import { OwnPart, type Own } from '../shared/own-part';
import { State } from '../shared/state';
import { Loading, Nothing, Trouble } from '../ui/parts';
import { Tabs } from '../ui/tabs';
import { partsOf } from './parts';

/** useGroup returns the group of the page, below GroupPage. */
export const useGroup = () => useOutletContext<Group>();

/**
 * NotFound is the page of a group that one can't find. Whoever is in it all the same, since its members can't find it, chooses there
 * how its mail reaches them, or leaves.
 */
function NotFound({ reference: ref, says }: { reference: string; says: string }) {
  const me = useMe();
  const params = { path: { ref } };
  const part = useQuery({
    queryKey: ['joining', 'my-part', ref],
    retry: false,
    queryFn: () => ask(api.GET('/api/v1/groups/{ref}/my-part', { params })),
  });
  const change = useChange(['joining', 'member'], (what: Own): Promise<object> =>
    what === 'leave'
      ? ask(api.POST('/api/v1/groups/{ref}/leaving', { params, body: {} }))
      : ask(
          api.PATCH('/api/v1/groups/{ref}/members/{member}', {
            params: { path: { ref, member: me.address } },
            body: { delivery: what as Delivery },
          }),
        ),
  );
  const went = change.data && 'outcome' in change.data ? (change.data as JoinResult) : undefined;
  if (part.data && went?.outcome !== 'done') {
    return (
      <Stack p="5" maxW="34rem" mx="auto" gap="5">
        <OwnPart part={part.data} change={change} />
        {went && <Text role="status">{went.says}</Text>}
        <Text fontSize="sm" color="fg.muted">
          The group can be found by fewer people than are in it, so this is all that you see of it. Its mail reaches you
          all the same.
        </Text>
      </Stack>
    );
  }
  if (part.isPending) return <Loading what="the group" />;
  return (
    <Nothing title={went?.says ?? says}>
      <Link to="/groups">All groups</Link>
    </Nothing>
  );
}

export default function GroupPage() {
  const { ref = '' } = useParams();
  const at = useLocation();
  const group = useQuery({
    queryKey: ['group', ref],
    queryFn: () => ask(api.GET('/api/v1/groups/{ref}', { params: { path: { ref } } })),
  });
  const g = group.data;
  if (group.error instanceof Refusal && group.error.status === 404) {
    return <NotFound reference={ref} says={group.error.message} />;
  }
  if (group.error) {
    return (
      <Box p="5">
        <Trouble error={group.error} retry={() => void group.refetch()} />
      </Box>
    );
  }
  if (!g) return <Loading what="the group" />;
  if (ref !== g.address) {
    // by its identifier, an alias or the part before the @
    const rest = at.pathname.split('/').slice(3).join('/');
    return <Navigate replace to={`/groups/${g.address}${rest && '/' + rest}${at.search}${at.hash}`} />;
  }
  return (
    <Box p={{ base: 3, md: 5 }} maxW="76rem" mx="auto">
      <Stack gap="1" mb="4">
        <HStack gap="3" align="baseline" wrap="wrap">
          <Heading as="h1" size="3xl">
            {g.name}
          </Heading>
          <State state={g.state} />
        </HStack>
        <Text color="fg.muted">{g.address}</Text>
        <Text fontSize="lg">{g.sentence}</Text>
      </Stack>
      <Tabs label="Parts of the group" parts={partsOf(g)} />
      <Suspense fallback={<Loading what="this part" />}>
        <Outlet context={g} />
      </Suspense>
    </Box>
  );
}
