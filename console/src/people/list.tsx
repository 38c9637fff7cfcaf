import { Button, Flex, Heading, HStack, Input, NativeSelect, Text } from '@chakra-ui/react';
import { memo } from 'react';
import { Link } from 'react-router';
import { api, ask, type Person } from '../api/client';
import { people } from '../lib/dates';
import { useList } from '../lib/use-list';
import { useMe } from '../session/me';
import { fields } from '../shared/fields';
import { Loading, Nothing, Trouble } from '../ui/parts';
import { type Column, RowHeight, useRows, VirtualTable } from '../ui/virtual-table';

const columns: Column[] = [
  { key: 'person', label: 'Person', width: '34%' },
  { key: 'title', label: 'Title', width: '20%' },
  { key: 'department', label: 'Department', width: '18%' },
  { key: 'locality', label: 'Place', width: '16%' },
  { key: 'role', label: 'In the workspace', width: '12%' },
];

export default function PeopleList() {
  const me = useMe();
  const [high, setHigh] = useRows();
  const list = useList({
    key: ['person', 'list'],
    filters: ['q', 'kind', 'lacks'],
    read: (query, cursor) => ask(api.GET('/api/v1/people', { params: { query: { ...query, cursor, limit: 200 } } })),
  });
  return (
    <Flex direction="column" h="full" p={{ base: 3, md: 5 }} gap="3">
      <HStack justify="space-between" wrap="wrap">
        <HStack align="baseline" gap="3">
          <Heading as="h1" size="2xl">
            People
          </Heading>
          <Text color="fg.muted" aria-live="polite">
            {list.loaded && people(list.total)}
          </Text>
        </HStack>
        {me.may.includes('change_directory') && (
          <HStack>
            <Button asChild size="sm" variant="outline" colorPalette="gray">
              <Link to="/people/import">Import a file</Link>
            </Button>
            <Button asChild size="sm" colorPalette="ivy">
              <Link to="/people/new">Add somebody</Link>
            </Button>
          </HStack>
        )}
      </HStack>
      <HStack wrap="wrap" gap="3">
        <Input
          type="search"
          aria-label="Search people"
          placeholder="Filter by the first letters of a name or address"
          size="sm"
          maxW="26rem"
          bg="bg.panel"
          value={list.q}
          onChange={(e) => list.setQ(e.target.value)}
        />
        {me.may.includes('read_departed') && (
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
        )}
        <NativeSelect.Root size="sm" w="14rem">
          <NativeSelect.Field
            aria-label="What is not filled in"
            value={list.values('lacks')[0] ?? ''}
            onChange={(e) => list.set('lacks', e.target.value)}
          >
            <option value="">filled in or not</option>
            {fields.slice(0, 10).map(([f, label]) => (
              <option key={f} value={f}>
                no {label.toLowerCase()}
              </option>
            ))}
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
        <HStack ml="auto">
          <RowHeight rows={high} onRows={setHigh} />
        </HStack>
      </HStack>
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
          columns={columns}
          rows={list.rows}
          high={high}
          minWidth="52rem"
          row={(p) => <Row person={p} />}
          more={list.more}
          onMore={list.onMore}
        />
      )}
    </Flex>
  );
}

const Row = memo(function Row({ person: p }: { person: Person }) {
  const value = (f: string) => p.attributes?.[f] || <span className="under">–</span>;
  return (
    <>
      <td>
        <a className="name" href={`/people/${p.address}`}>
          {p.name}
        </a>
        {p.name !== p.address && <span className="under">{p.address}</span>}
      </td>
      <td>{value('title')}</td>
      <td>{value('department')}</td>
      <td>{value('locality')}</td>
      <td>{p.external ? 'external' : !p.active ? 'has left' : p.workspace_role}</td>
    </>
  );
});
