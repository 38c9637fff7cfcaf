import { Box, Heading, HStack, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { Link, NavLink, useParams } from 'react-router';
import { api, ask, Refusal } from '../api/client';
import { HistoryList } from '../history/list';
import { Loading, Nothing, State, Trouble } from '../ui/parts';
import { Overview } from './overview';
import { Nesting } from './nesting';
import { People } from './people';
import { Reach } from './reach';
import { Rule } from './rule';
import { Term } from './term';
import { WaysIn } from './ways-in';

const tabs = [
  ['', 'Overview'],
  ['people', 'People'],
  ['ways-in', 'Ways in'],
  ['nesting', 'Nesting'],
  ['reach', 'Reach'],
  ['term', 'Term'],
  ['history', 'History'],
] as const;

export default function GroupPage() {
  const { ref = '', tab = '' } = useParams();
  const group = useQuery({
    queryKey: ['group', ref],
    queryFn: () => ask(api.GET('/api/v1/groups/{ref}', { params: { path: { ref } } })),
  });
  const g = group.data;
  if (group.error instanceof Refusal && group.error.status === 404) {
    return (
      <Nothing title={group.error.message}>
        <Link to="/groups">All groups</Link>
      </Nothing>
    );
  }
  if (group.error) {
    return (
      <Box p="5">
        <Trouble error={group.error} retry={() => void group.refetch()} />
      </Box>
    );
  }
  if (!g) return <Loading what="the group" />;
  const shown = tabs.filter(([t]) =>
    t === 'people' || t === 'nesting'
      ? g.may?.includes('see_people')
      : t === 'ways-in'
        ? g.may?.includes('join_links')
        : t === 'history'
          ? g.may?.includes('history')
          : true,
  );
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
      <HStack as="nav" aria-label="Parts of the group" gap="1" borderBottomWidth="1px" mb="5" overflowX="auto">
        {shown.map(([t, label]) => (
          <NavLink
            key={t}
            end
            to={`/groups/${g.address}${t && '/' + t}`}
            style={({ isActive }) => ({
              padding: '0.5rem 0.9rem',
              whiteSpace: 'nowrap',
              borderBottom: '3px solid',
              borderColor: isActive ? 'var(--ivy-colors-ivy-solid)' : 'transparent',
              fontWeight: isActive ? 600 : 400,
            })}
          >
            {label}
          </NavLink>
        ))}
      </HStack>
      {tab === 'people' ? (
        <Stack gap="5">
          {g.by_rule && <Rule group={g} />}
          <People group={g} />
          {!g.by_rule && <Rule group={g} />}
        </Stack>
      ) : tab === 'ways-in' ? (
        <WaysIn group={g} />
      ) : tab === 'nesting' ? (
        <Nesting group={g} />
      ) : tab === 'reach' ? (
        <Reach key={g.version} group={g} />
      ) : tab === 'term' ? (
        <Term group={g} />
      ) : tab === 'history' ? (
        <HistoryList group={g.address} />
      ) : (
        <Overview group={g} />
      )}
    </Box>
  );
}
