import { Box, Button, Heading, Input, SimpleGrid, Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, ask, type Group } from '../api/client';
import { useMe } from '../session/me';
import { useWish } from '../groups/my-part';
import { date, inDays, plural } from '../ui/dates';
import { Loading, Nothing, State, Trouble } from '../ui/parts';
import { useSettled } from '../ui/settled';

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
          <Text>Look for one below.</Text>
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
      <Asked />
      <Discover />
    </Box>
  );
}

/** Asked lists what I asked for and nobody has decided. */
function Asked() {
  const requests = useQuery({
    queryKey: ['my-requests'],
    queryFn: () => ask(api.GET('/api/v1/requests', { params: { query: { mine: true, limit: 100 } } })),
  });
  const open = requests.data?.items.filter((r) => r.state === 'open') ?? [];
  if (open.length === 0) return null;
  return (
    <Box as="section" mt="6">
      <Heading as="h2" size="md" mb="2">
        I asked
      </Heading>
      <Stack as="ul" gap="1" listStyleType="none">
        {open.map((r) => (
          <li key={r.id}>
            to {r.kind}{' '}
            <Link to={`/groups/${r.group.address}`}>
              <u>{r.group.name}</u>
            </Link>
            , on {date(r.made_at)}
          </li>
        ))}
      </Stack>
    </Box>
  );
}

/** Discover finds groups that I could join, and says who runs them. */
function Discover() {
  const [text, setText] = useState('');
  const q = useSettled(text, 150);
  const found = useInfiniteQuery({
    queryKey: ['joinable', q],
    placeholderData: keepPreviousData,
    initialPageParam: '',
    queryFn: ({ pageParam }) =>
      ask(api.GET('/api/v1/groups', { params: { query: { scope: 'joinable', q, limit: 10, cursor: pageParam } } })),
    getNextPageParam: (last) => last.next || undefined,
  });
  const list = found.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <Box as="section" mt="6">
      <Heading as="h2" size="md" mb="2">
        I could join{' '}
        <Text as="span" color="fg.muted" fontWeight="400" fontSize="sm">
          {found.data && plural(found.data.pages[0]?.total ?? 0, 'group')}
        </Text>
      </Heading>
      <Input
        data-search
        size="sm"
        maxW="24rem"
        mb="3"
        bg="bg.panel"
        type="search"
        aria-label="Search groups that I could join"
        placeholder="Search by the first letters of a name  ( / )"
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      <Trouble error={found.error} />
      <SimpleGrid columns={{ base: 1, md: 2 }} gap="3">
        {list.map((g) => (
          <Joinable key={g.id} group={g} />
        ))}
      </SimpleGrid>
      {found.data && list.length === 0 && (
        <Text color="fg.muted">{q ? 'No group matches.' : 'You are in every group that takes you.'}</Text>
      )}
      {found.hasNextPage && (
        <Button mt="3" size="sm" variant="outline" colorPalette="gray" onClick={() => void found.fetchNextPage()}>
          Show more
        </Button>
      )}
    </Box>
  );
}

function Joinable({ group: g }: { group: Group }) {
  const wish = useWish(g);
  return (
    <Box bg="bg.panel" borderWidth="1px" borderRadius="lg" p="4" fontSize="sm">
      <Link to={`/groups/${g.address}`} style={{ fontWeight: 600, fontSize: '1rem' }}>
        {g.name}
      </Link>
      {g.description && <Text>{g.description}</Text>}
      <Text color="fg.muted">
        {plural(g.counts.owners + g.counts.moderators + g.counts.members, 'person', 'people')}, run by{' '}
        {g.owners.length ? g.owners.map((o) => o.name).join(', ') : 'nobody'}
      </Text>
      <Box display="flex" gap="2" mt="2" alignItems="center" flexWrap="wrap">
        <Button
          size="xs"
          variant="outline"
          colorPalette="ivy"
          loading={wish.isPending}
          onClick={() => wish.mutate({ leave: false, note: '' })}
        >
          {g.join.how === 'asking' ? 'Ask to join' : 'Join'}
        </Button>
        <a href={`mailto:${g.address.replace('@', '-owners@')}`}>
          <u>Write to its owners</u>
        </a>
      </Box>
      <Trouble error={wish.error} />
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
