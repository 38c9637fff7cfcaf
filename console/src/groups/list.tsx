import { Button, Flex, Heading, HStack, Input, Text } from '@chakra-ui/react';
import { memo } from 'react';
import { Link } from 'react-router';
import { api, ask, type Group } from '../api/client';
import { date, inDays, plural } from '../lib/dates';
import { useList } from '../lib/use-list';
import { useMe } from '../session/me';
import { size } from '../shared/group-field';
import { State } from '../shared/state';
import { Loading, Nothing, Trouble } from '../ui/parts';
import { type Column, RowHeight, useRows, VirtualTable } from '../ui/virtual-table';

const states = ['active', 'due', 'lapsed', 'retired'] as const;

const columns: Column[] = [
  { key: 'name', label: 'Group', width: '31%', sort: 'name' },
  { key: 'state', label: 'State', width: '9%' },
  { key: 'owners', label: 'Owners', width: '20%' },
  { key: 'people', label: 'People', width: '9%', sort: 'people', num: true },
  { key: 'post', label: 'Who can write', width: '14%', sort: 'post' },
  { key: 'expires', label: 'Expires', width: '17%', sort: 'expires' },
];

export default function GroupList() {
  const me = useMe();
  const [high, setHigh] = useRows();
  const list = useList({
    key: ['group', 'list'],
    filters: ['q', 'state', 'sort'],
    read: (query, cursor) =>
      ask(
        api.GET('/api/v1/groups', {
          params: {
            query: { ...(query as { q?: string }), state: [query.state ?? []].flat() as never, cursor, limit: 200 },
          },
        }),
      ),
  });
  const state = list.values('state');
  return (
    <Flex direction="column" h="full" p={{ base: 3, md: 5 }} gap="3">
      <HStack justify="space-between" wrap="wrap">
        <HStack align="baseline" gap="3">
          <Heading as="h1" size="2xl">
            Groups
          </Heading>
          <Text color="fg.muted" aria-live="polite">
            {list.loaded && plural(list.total, 'group')}
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
          type="search"
          aria-label="Search groups"
          placeholder="Filter by the first letters of a name or address"
          size="sm"
          maxW="26rem"
          bg="bg.panel"
          value={list.q}
          onChange={(e) => list.setQ(e.target.value)}
        />
        <HStack role="group" aria-label="Show only" gap="1">
          {states.map((s) => (
            <Button
              key={s}
              size="xs"
              variant={state.includes(s) ? 'solid' : 'outline'}
              colorPalette={state.includes(s) ? 'ivy' : 'gray'}
              aria-pressed={state.includes(s)}
              onClick={() => list.set('state', state.includes(s) ? state.filter((x) => x !== s) : [...state, s])}
            >
              {s}
            </Button>
          ))}
        </HStack>
        <HStack ml="auto">
          <RowHeight rows={high} onRows={setHigh} />
        </HStack>
      </HStack>
      {list.error ? (
        <Trouble error={list.error} retry={list.retry} />
      ) : !list.loaded ? (
        <Loading what="groups" />
      ) : list.rows.length === 0 ? (
        <Nothing title={list.q || state.length ? 'No group matches.' : 'There is no group yet.'}>
          {list.q || state.length ? (
            <Button size="sm" variant="outline" colorPalette="gray" onClick={list.clear}>
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
          rows={list.rows}
          high={high}
          minWidth="56rem"
          row={(g) => <Row group={g} />}
          sort={list.values('sort')[0] ?? 'name'}
          onSort={(s) => list.set('sort', s)}
          more={list.more}
          onMore={list.onMore}
        />
      )}
    </Flex>
  );
}

const Row = memo(function Row({ group: g }: { group: Group }) {
  return (
    <>
      <td title={g.address}>
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
        {size(g).toLocaleString('en-GB')}
        {g.by_rule && <span className="under">by rule</span>}
        {g.counts.external > 0 && <span className="under">{g.counts.external} external</span>}
      </td>
      <td>
        {g.policy.post}
        {g.policy.post === 'anyone' && (
          <span className="under">{g.hold === 'nobody' ? 'nothing is held' : 'with approval'}</span>
        )}
      </td>
      <td>
        {g.term.ended_at ? (
          <>
            ended {date(g.term.ended_at)}
            {g.term.restorable_until && <span className="under">restorable until {date(g.term.restorable_until)}</span>}
          </>
        ) : g.term.exempt ? (
          <>
            never<span className="under">exempt</span>
          </>
        ) : (
          inDays(g.term.expires_on, g.term.days_left)
        )}
      </td>
    </>
  );
});
