import { Box, Button, Heading, Input, SimpleGrid, Stack, Text } from '@chakra-ui/react';
import { Link } from 'react-router';
import { api, ask, type Group } from '../api/client';
import { useJoining, useMyRequests } from '../groups/my-part';
import { date, inDays, people, plural } from '../lib/dates';
import { useList } from '../lib/use-list';
import { Helping } from './helping';
import { ToConfirm } from './to-confirm';
import { ToMend } from './to-mend';
import { useMe } from '../session/me';
import { Calendar } from '../shared/calendar';
import { size } from '../shared/group-field';
import { State } from '../shared/state';
import { Loading, More, Nothing, Trouble } from '../ui/parts';

const parts = [
  ['owner', 'I own'],
  ['moderator', 'I moderate'],
  ['member', 'I am in'],
] as const;

export default function Mine() {
  const me = useMe();
  const mine = useList({
    key: ['group', 'mine'],
    read: (_, cursor) => ask(api.GET('/api/v1/groups', { params: { query: { scope: 'mine', limit: 200, cursor } } })),
  });
  return (
    <Box p={{ base: 3, md: 5 }} maxW="70rem" mx="auto">
      <Heading as="h1" size="2xl" mb="1">
        My groups
      </Heading>
      <Text color="fg.muted" mb="5">
        {me.name}, {me.address}
      </Text>
      <Helping />
      <ToConfirm />
      <ToMend />
      {mine.error ? (
        <Trouble error={mine.error} retry={mine.retry} />
      ) : !mine.loaded ? (
        <Loading what="your groups" />
      ) : mine.rows.length === 0 ? (
        <Nothing title="You are in no group yet.">
          <Text>Look for one below.</Text>
        </Nothing>
      ) : (
        <Stack gap="6">
          {parts.map(([role, label]) => {
            const groups = mine.rows.filter((g) => g.my_role === role);
            return (
              groups.length > 0 && (
                <Box as="section" key={role}>
                  <Heading as="h2" size="md" mb="2">
                    {label}{' '}
                    <Text as="span" color="fg.muted" fontWeight="400" fontSize="sm">
                      {plural(groups.length, 'group')}
                    </Text>
                  </Heading>
                  {role === 'owner' && groups.some((g) => g.term.expires_on) && (
                    <Box mb="3">
                      <Calendar />
                    </Box>
                  )}
                  <SimpleGrid columns={{ base: 1, md: 2 }} gap="3">
                    {groups.map((g) => (
                      <Card key={g.id} group={g} />
                    ))}
                  </SimpleGrid>
                </Box>
              )
            );
          })}
          <More list={mine} words="Show more of my groups" />
        </Stack>
      )}
      <Asked />
      <Discover />
    </Box>
  );
}

/** Asked lists what I asked for and nobody has decided. */
function Asked() {
  const requests = useMyRequests();
  if (requests.length === 0) return null;
  return (
    <Box as="section" mt="6">
      <Heading as="h2" size="md" mb="2">
        I asked
      </Heading>
      <Stack as="ul" gap="1" listStyleType="none">
        {requests.map((r) => (
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
  const found = useList({
    key: ['group', 'joinable'],
    filters: ['q'],
    read: (query, cursor) =>
      ask(api.GET('/api/v1/groups', { params: { query: { ...query, scope: 'joinable', limit: 10, cursor } } })),
  });
  return (
    <Box as="section" mt="6">
      <Heading as="h2" size="md" mb="2">
        I could join{' '}
        <Text as="span" color="fg.muted" fontWeight="400" fontSize="sm">
          {found.loaded && plural(found.total, 'group')}
        </Text>
      </Heading>
      <Input
        size="sm"
        maxW="24rem"
        mb="3"
        bg="bg.panel"
        type="search"
        aria-label="Search groups that I could join"
        placeholder="Filter by the first letters of a name"
        value={found.q}
        onChange={(e) => found.setQ(e.target.value)}
      />
      <Trouble error={found.error} />
      <SimpleGrid columns={{ base: 1, md: 2 }} gap="3">
        {found.rows.map((g) => (
          <Joinable key={g.id} group={g} />
        ))}
      </SimpleGrid>
      {found.loaded && found.rows.length === 0 && (
        <Text color="fg.muted">{found.filtered ? 'No group matches.' : 'You are in every group that takes you.'}</Text>
      )}
      <More list={found} />
    </Box>
  );
}

function Joinable({ group: g }: { group: Group }) {
  const joining = useJoining(g);
  return (
    <Box bg="bg.panel" borderWidth="1px" borderRadius="lg" p="4" fontSize="sm">
      <Link to={`/groups/${g.address}`} style={{ fontWeight: 600, fontSize: '1rem' }}>
        {g.name}
      </Link>
      {g.description && <Text>{g.description}</Text>}
      <Text color="fg.muted">
        {people(size(g))}, run by {g.owners.length ? g.owners.map((o) => o.name).join(', ') : 'nobody'}
      </Text>
      <Box display="flex" gap="2" mt="2" alignItems="center" flexWrap="wrap">
        <Button
          size="xs"
          variant="outline"
          colorPalette="ivy"
          loading={joining.isPending}
          onClick={() => joining.mutate({ leave: false, note: '' })}
        >
          {g.join.how === 'asking' ? 'Ask to join' : 'Join'}
        </Button>
        <a href={`mailto:${g.address.replace('@', '-owners@')}`}>
          <u>Write to its owners</u>
        </a>
      </Box>
      <Trouble error={joining.error} />
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
        {people(size(g))}
        {g.my_role === 'owner' && g.term.expires_on && ` · expires ${inDays(g.term.expires_on, g.term.days_left)}`}
      </Text>
      {g.my_role === 'owner' && g.state === 'due' && (
        <Link to={`/groups/${g.address}/term`} style={{ fontSize: '0.9rem', textDecoration: 'underline' }}>
          Renew it
        </Link>
      )}
    </Box>
  );
}
