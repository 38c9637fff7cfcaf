import { Box, Heading, SimpleGrid, Stack, Text } from '@chakra-ui/react';
import { useInfiniteQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, ask, type Group } from '../api/client';
import { useMe } from '../session/me';
import { inDays, plural } from '../ui/dates';
import { Loading, Nothing, State, Trouble } from '../ui/parts';

const parts = [
  ['owner', 'I own'],
  ['moderator', 'I moderate'],
  ['member', 'I am in'],
] as const;

export default function Mine() {
  const me = useMe();
  const mine = useInfiniteQuery({
    queryKey: ['mine'],
    initialPageParam: '',
    queryFn: ({ pageParam }) =>
      ask(api.GET('/api/v1/groups', { params: { query: { scope: 'mine', limit: 200, cursor: pageParam } } })),
    getNextPageParam: (last) => last.next || undefined,
  });
  const groups = mine.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <Box p={{ base: 3, md: 5 }} maxW="70rem" mx="auto">
      <Heading as="h1" size="2xl" mb="1">
        My groups
      </Heading>
      <Text color="fg.muted" mb="5">
        {me.name}, {me.address}
      </Text>
      {mine.error ? (
        <Trouble error={mine.error} retry={() => void mine.refetch()} />
      ) : !mine.data ? (
        <Loading what="your groups" />
      ) : groups.length === 0 ? (
        <Nothing title="You are in no group yet.">
          <Text>
            Look for one among <Link to="/groups">all groups</Link>.
          </Text>
        </Nothing>
      ) : (
        <Stack gap="6">
          {parts.map(([role, label]) => {
            const list = groups.filter((g) => g.my_role === role);
            return (
              list.length > 0 && (
                <Box as="section" key={role}>
                  <Heading as="h2" size="md" mb="2">
                    {label}{' '}
                    <Text as="span" color="fg.muted" fontWeight="400" fontSize="sm">
                      {plural(list.length, 'group')}
                    </Text>
                  </Heading>
                  <SimpleGrid columns={{ base: 1, md: 2 }} gap="3">
                    {list.map((g) => (
                      <Card key={g.id} group={g} />
                    ))}
                  </SimpleGrid>
                </Box>
              )
            );
          })}
        </Stack>
      )}
    </Box>
  );
}

function Card({ group: g }: { group: Group }) {
  return (
    <Box bg="bg.panel" borderWidth="1px" borderRadius="lg" p="4">
      <Box display="flex" justifyContent="space-between" gap="3" alignItems="baseline">
        <Link to={`/groups/${g.address}`} style={{ fontWeight: 600 }}>
          {g.name}
        </Link>
        <State state={g.state} />
      </Box>
      <Text fontSize="sm" color="fg.muted" truncate>
        {g.address}
      </Text>
      <Text fontSize="sm" mt="1">
        {plural(g.counts.owners + g.counts.moderators + g.counts.members, 'person', 'people')}
        {g.my_role === 'owner' && g.term.expires_at && ` · expires ${inDays(g.term.expires_at, g.term.days_left)}`}
      </Text>
      {g.my_role === 'owner' && g.state === 'due' && (
        <Link to={`/groups/${g.address}/term`} style={{ fontSize: '0.9rem', textDecoration: 'underline' }}>
          Renew it
        </Link>
      )}
    </Box>
  );
}
