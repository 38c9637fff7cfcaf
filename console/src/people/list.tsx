import { Button, NativeSelect } from '@chakra-ui/react';
import { memo, type ReactNode, useMemo } from 'react';
import { Link } from 'react-router';
import { api, ask, type Person } from '../api/client';
import { people } from '../lib/dates';
import { useList } from '../lib/use-list';
import { useMe } from '../session/me';
import { type Field, useFields } from '../shared/fields';
import { ListPage } from '../shared/list-page';
import { Loading, Nothing, Trouble } from '../ui/parts';
import { Cells, type Choosable, useColumns, useRows, VirtualTable } from '../ui/virtual-table';

const of = (p: Person, field: string): ReactNode => p.attributes?.[field] || <span className="under">–</span>;

const columnsOf = (fields: Field[]): Choosable<Person>[] => [
  {
    key: 'person',
    label: 'Person',
    width: '20rem',
    sort: 'name',
    title: (p) => p.address,
    cell: (p) => (
      <>
        <a className="name" href={`/people/${p.active ? p.address : p.id}`}>
          {p.name}
        </a>
        {p.name !== p.address && <span className="under">{p.address}</span>}
      </>
    ),
  },
  ...fields.map(([field, label]): Choosable<Person> => ({
    key: field,
    label,
    width: '11rem',
    cell: (p) => of(p, field),
  })),
  {
    key: 'role',
    label: 'In the workspace',
    width: '9rem',
    cell: (p) => (p.external ? 'external' : !p.active ? 'has left' : p.workspace_role),
  },
];

const usual = ['person', 'title', 'department', 'locality', 'role'];

export default function PeopleList() {
  const me = useMe();
  const rows = useRows();
  const fields = useFields();
  const columns = useMemo(() => columnsOf(fields), [fields]);
  const chosen = useColumns('people', columns, usual);
  const list = useList({
    key: ['person', 'list'],
    filters: ['q', 'kind', 'filter', 'sort'],
    read: (query, cursor) => ask(api.GET('/api/v1/people', { params: { query: { ...query, cursor, limit: 200 } } })),
  });
  const wide = chosen.shown.reduce((sum, c) => sum + parseFloat(c.width), 0);
  return (
    <ListPage
      name="people"
      title="People"
      count={list.loaded ? people(list.total) : ''}
      search="First letters of a name or address"
      list={list}
      rows={rows}
      columns={chosen}
      exported={list.query}
      side={
        <>
          <Button asChild size="sm" variant="outline" colorPalette="gray">
            <Link to="/people/external">External members</Link>
          </Button>
          {me.may.includes('change_directory') && (
            <>
              <Button asChild size="sm" variant="outline" colorPalette="gray">
                <Link to="/people/import">Import a file</Link>
              </Button>
              <Button asChild size="sm" colorPalette="ivy">
                <Link to="/people/new">Add somebody</Link>
              </Button>
            </>
          )}
        </>
      }
      quick={
        me.may.includes('read_departed') && (
          <NativeSelect.Root size="sm" w="11rem">
            <NativeSelect.Field
              aria-label="Which people"
              value={list.values('kind')[0] ?? ''}
              onChange={(e) => list.set('kind', e.target.value)}
            >
              <option value="">who are here</option>
              <option value="departed">who have left</option>
              <option value="external">external members</option>
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        )
      }
    >
      {list.error ? (
        <Trouble error={list.error} retry={list.retry} />
      ) : !list.loaded ? (
        <Loading what="people" />
      ) : list.rows.length === 0 ? (
        <Nothing title="Nobody matches.">
          <Button size="sm" variant="outline" colorPalette="gray" onClick={list.clear}>
            Show everybody
          </Button>
        </Nothing>
      ) : (
        <VirtualTable
          label="People"
          columns={chosen.shown}
          rows={list.rows}
          high={rows[0]}
          minWidth={`${wide}rem`}
          row={(p) => <Row columns={chosen.shown} person={p} />}
          sort={list.values('sort')[0] ?? 'name'}
          onSort={(s) => list.set('sort', s)}
          more={list.more}
          onMore={list.onMore}
        />
      )}
    </ListPage>
  );
}

const Row = memo(function Row(props: { columns: Choosable<Person>[]; person: Person }) {
  return <Cells columns={props.columns} row={props.person} />;
});
