import { Button, HStack, Text } from '@chakra-ui/react';
import { memo, useMemo, useState } from 'react';
import { Link } from 'react-router';
import { api, ask, type Group } from '../api/client';
import { date, inDays, plural } from '../lib/dates';
import { useList } from '../lib/use-list';
import { useMe } from '../session/me';
import { size } from '../shared/group-field';
import { ListPage } from '../shared/list-page';
import { Owners } from '../shared/owners';
import { State } from '../shared/state';
import { Loading, Nothing, Trouble } from '../ui/parts';
import { Cells, type Choosable, useColumns, useRows, VirtualTable } from '../ui/virtual-table';
import { BulkBar } from './bulk';

const states = ['active', 'due', 'lapsed', 'retired'] as const;

const columns: Choosable<Group>[] = [
  {
    key: 'name',
    label: 'Group',
    width: '20rem',
    sort: 'name',
    title: (g) => g.address,
    cell: (g) => (
      <>
        <a className="name" href={`/groups/${g.address}`}>
          {g.name}
        </a>
        <span className="under">{g.address}</span>
      </>
    ),
  },
  { key: 'state', label: 'State', width: '6rem', cell: (g) => <State state={g.state} /> },
  {
    key: 'owners',
    label: 'Owners',
    width: '13rem',
    sort: 'owners',
    title: (g) => g.owners.map((o) => o.address).join(', '),
    cell: (g) => <Owners group={g} />,
  },
  {
    key: 'people',
    label: 'Reaches',
    width: '8rem',
    sort: 'people',
    num: true,
    title: (g) =>
      `${plural(g.counts.people, 'person', 'people')}${g.counts.more ? ', and more through groups that you may not find' : ''}`,
    cell: (g) => (
      <>
        {size(g).toLocaleString('en-GB')}
        {g.counts.more && '+'}
        {g.counts.nested > 0 && <span className="under">{plural(g.counts.nested, 'group')} in it</span>}
        {g.by_rule && <span className="under">by rule</span>}
      </>
    ),
  },
  {
    key: 'post',
    label: 'Who can write',
    width: '9rem',
    sort: 'post',
    cell: (g) => (
      <>
        {g.policy.post}
        {g.policy.post === 'anyone' && (
          <span className="under">{g.hold === 'nobody' ? 'nothing is held' : 'with approval'}</span>
        )}
      </>
    ),
  },
  {
    key: 'expires',
    label: 'Expires',
    width: '12rem',
    sort: 'expires',
    cell: (g) =>
      g.term.ended_at ? (
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
      ),
  },
  {
    key: 'external',
    label: 'External',
    width: '6rem',
    sort: 'external',
    num: true,
    cell: (g) => g.counts.external || '–',
  },
  { key: 'find', label: 'Who finds it', width: '8rem', cell: (g) => g.policy.find },
  {
    key: 'join',
    label: 'Who joins',
    width: '9rem',
    cell: (g) => (g.join.audience === 'nobody' ? 'invited only' : `${g.join.audience}, ${g.join.how}`),
  },
  { key: 'traits', label: 'Does', width: '9rem', cell: (g) => g.traits.join(', ') || '–' },
  { key: 'language', label: 'Language', width: '6rem', cell: (g) => g.language },
  { key: 'starting_point', label: 'Begun from', width: '9rem', cell: (g) => g.starting_point || '–' },
  { key: 'created', label: 'Made', width: '7.5rem', sort: 'created', cell: (g) => date(g.created_at) },
  { key: 'renewed', label: 'Renewed', width: '7.5rem', sort: 'renewed', cell: (g) => date(g.term.renewed_at) },
  {
    key: 'description',
    label: 'What it is for',
    width: '18rem',
    title: (g) => g.description,
    cell: (g) => g.description || '–',
  },
];

const usual = ['name', 'state', 'owners', 'people', 'post', 'expires'];

export default function GroupList() {
  const me = useMe();
  const rows = useRows();
  const chosen = useColumns('groups', columns, usual);
  const [whole, setWhole] = useState(false); // all that match are picked, not only those that were read
  const list = useList({
    key: ['group', 'list'],
    filters: ['q', 'state', 'filter', 'sort'],
    read: (query, cursor) =>
      ask(
        api.GET('/api/v1/groups', {
          params: {
            query: { ...(query as { q?: string }), state: [query.state ?? []].flat() as never, cursor, limit: 200 },
          },
        }),
      ),
  });
  const many = me.may.includes('change_many');
  const { picked, pick } = list;
  const shown = useMemo<Choosable<Group>[]>(
    () =>
      many
        ? [
            {
              key: 'pick',
              label: 'Pick',
              width: '3.4rem',
              cell: (g) => (
                <input
                  type="checkbox"
                  aria-label={`Pick ${g.name}`}
                  checked={whole || picked.has(g.id)}
                  onChange={(e) => {
                    setWhole(false);
                    pick(g.id, e.target.checked);
                  }}
                />
              ),
            },
            ...chosen.shown,
          ]
        : chosen.shown,
    [many, chosen.shown, whole, picked, pick],
  );
  const state = list.values('state');
  const wide = shown.reduce((sum, c) => sum + parseFloat(c.width), 0);
  return (
    <ListPage
      name="groups"
      title="Groups"
      count={list.loaded ? plural(list.total, 'group') : ''}
      search="First letters of a name or address"
      list={list}
      rows={rows}
      columns={chosen}
      exported={list.query}
      side={
        <HStack>
          {me.may.includes('change_many') && (
            <Button asChild colorPalette="gray" variant="outline" size="sm">
              <Link to="/groups/sheet">By a sheet</Link>
            </Button>
          )}
          {me.may.includes('create_group') && (
            <Button asChild colorPalette="ivy" size="sm">
              <Link to="/groups/new">Create a group</Link>
            </Button>
          )}
        </HStack>
      }
      quick={
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
      }
    >
      {many && (whole || picked.size > 0) && (
        <BulkBar
          picked={[...picked]}
          whole={
            whole
              ? { total: list.total, list: { q: list.q, states: state, filter: list.values('filter')[0] ?? '' } }
              : undefined
          }
          total={list.total}
          onWhole={() => setWhole(true)}
          onNone={() => {
            setWhole(false);
            list.pickAll(false);
          }}
        />
      )}
      {list.error ? (
        <Trouble error={list.error} retry={list.retry} />
      ) : !list.loaded ? (
        <Loading what="groups" />
      ) : list.rows.length === 0 ? (
        <Nothing title={list.filtered ? 'No group matches.' : 'There is no group yet.'}>
          {list.filtered ? (
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
          columns={shown}
          rows={list.rows}
          high={rows[0]}
          minWidth={`${wide}rem`}
          row={(g) => <Row columns={shown} group={g} />}
          sort={list.values('sort')[0] ?? 'name'}
          onSort={(s) => list.set('sort', s)}
          more={list.more}
          onMore={list.onMore}
        />
      )}
    </ListPage>
  );
}

const Row = memo(function Row(props: { columns: Choosable<Group>[]; group: Group }) {
  return <Cells columns={props.columns} row={props.group} />;
});
