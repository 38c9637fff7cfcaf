import { Button, Flex, Heading, HStack, Input, Text } from '@chakra-ui/react';
import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { memo, useMemo } from 'react';
import { Link } from 'react-router';
import { api, ask, type Group } from '../api/client';
import { useMe } from '../session/me';
import { date, inDays, plural } from '../ui/dates';
import { Loading, Nothing, State, Trouble } from '../ui/parts';
import { useFilters } from '../ui/params';
import { type Column, VirtualTable } from '../ui/virtual-table';
import { writes } from '../ui/words';

const states = ['active', 'due', 'lapsed', 'retired'] as const;

const columns: Column[] = [
  { key: 'name', label: 'Group', width: '31%', sort: 'name' },
  { key: 'state', label: 'State', width: '9%' },
  { key: 'owners', label: 'Owners', width: '20%' },
  { key: 'people', label: 'People', width: '8%', sort: 'people', num: true },
  { key: 'post', label: 'Who can write', width: '14%', sort: 'post' },
  { key: 'expires', label: 'Expires', width: '18%', sort: 'expires' },
];

export default function GroupList() {
  const me = useMe();
  const { params, set, q, setQ, settled } = useFilters();
  const state = params.getAll('state');
  const sort = params.get('sort') ?? 'name';
  const groups = useInfiniteQuery({
    queryKey: ['groups', settled, state, sort],
    placeholderData: keepPreviousData,
    initialPageParam: '',
    queryFn: ({ pageParam }) =>
      ask(
        api.GET('/api/v1/groups', {
          params: { query: { q: settled, sort, cursor: pageParam, limit: 200, ...(state.length ? { state } : {}) } },
        }),
      ),
    getNextPageParam: (last) => last.next || undefined,
  });
  const rows = useMemo(() => groups.data?.pages.flatMap((p) => p.items) ?? [], [groups.data]);
  const total = groups.data?.pages[0]?.total ?? 0;

  return (
    <Flex direction="column" h="full" p={{ base: 3, md: 5 }} gap="3">
      <HStack justify="space-between" wrap="wrap">
        <HStack align="baseline" gap="3">
          <Heading as="h1" size="2xl">
            Groups
          </Heading>
          <Text color="fg.muted" aria-live="polite">
            {groups.data && plural(total, 'group')}
          </Text>
        </HStack>
        {me.may.includes('create_group') && (
          <Button asChild colorPalette="ivy" size="sm">
            <Link to="/groups/new">Create a group</Link>
          </Button>
        )}
      </HStack>
      <HStack wrap="wrap" gap="3">
        <Input
          data-search
          type="search"
          aria-label="Search groups"
          placeholder="Search by the first letters of a name or address  ( / )"
          size="sm"
          maxW="26rem"
          bg="bg.panel"
          value={q}
          onChange={(e) => setQ(e.target.value)}
        />
        <HStack role="group" aria-label="Show only" gap="1">
          {states.map((s) => (
            <Button
              key={s}
              size="xs"
              variant={state.includes(s) ? 'solid' : 'outline'}
              colorPalette={state.includes(s) ? 'ivy' : 'gray'}
              aria-pressed={state.includes(s)}
              onClick={() =>
                set((p) => {
                  const next = state.includes(s) ? state.filter((x) => x !== s) : [...state, s];
                  p.delete('state');
                  for (const x of next) p.append('state', x);
                })
              }
            >
              {s}
            </Button>
          ))}
        </HStack>
      </HStack>
      {groups.error ? (
        <Trouble error={groups.error} retry={() => void groups.refetch()} />
      ) : !groups.data ? (
        <Loading what="groups" />
      ) : rows.length === 0 ? (
        <Nothing title={q || state.length ? 'No group matches.' : 'There is no group yet.'}>
          {q || state.length ? (
            <Button
              size="sm"
              variant="outline"
              colorPalette="gray"
              onClick={() => {
                setQ('');
                set((p) => p.delete('state'));
              }}
            >
              Show all groups
            </Button>
          ) : (
            <Text>Create the first one.</Text>
          )}
        </Nothing>
      ) : (
        <VirtualTable
          label="Groups"
          columns={columns}
          rows={rows}
          minWidth="56rem"
          row={(g) => <Row group={g} />}
          sort={sort}
          onSort={(s) => set((p) => p.set('sort', s))}
          more={groups.hasNextPage && !groups.isFetchingNextPage}
          onMore={() => void groups.fetchNextPage()}
        />
      )}
    </Flex>
  );
}

const Row = memo(function Row({ group: g }: { group: Group }) {
  const people = g.counts.owners + g.counts.moderators + g.counts.members;
  return (
    <>
      <td>
        <a className="name" href={`/groups/${g.address}`}>
          {g.name}
        </a>
        <span className="under">{g.address}</span>
      </td>
      <td>
        <State state={g.state} />
      </td>
      <td title={g.owners.map((o) => o.address).join(', ')}>
        {g.owners.length === 0 ? <span className="warn">nobody</span> : g.owners.map((o) => o.name).join(', ')}
      </td>
      <td className="num">
        {people.toLocaleString('en-GB')}
        {g.by_rule && <span className="under">by rule</span>}
        {g.counts.external > 0 && <span className="under">{g.counts.external} external</span>}
      </td>
      <td>
        {writes[g.policy.post ?? '']}
        {g.policy.post === 'anyone' && (
          <span className="under">{g.hold === 'nobody' ? 'nothing is held' : 'with approval'}</span>
        )}
      </td>
      <td>
        {g.term.ended_at ? (
          <>
            ended {date(g.term.ended_at)}
            {g.term.restorable_till && <span className="under">restorable until {date(g.term.restorable_till)}</span>}
          </>
        ) : g.term.standing ? (
          <>
            never<span className="under">standing</span>
          </>
        ) : (
          inDays(g.term.expires_at, g.term.days_left)
        )}
      </td>
    </>
  );
});
