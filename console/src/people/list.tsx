import { Button, Flex, Heading, HStack, Input, NativeSelect, Text } from '@chakra-ui/react';
import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { memo, useMemo } from 'react';
import { Link } from 'react-router';
import { api, ask, type Person } from '../api/client';
import { useMe } from '../session/me';
import { plural } from '../ui/dates';
import { fields } from '../ui/fields';
import { Loading, Nothing, Trouble } from '../ui/parts';
import { useFilters } from '../ui/params';
import { type Column, VirtualTable } from '../ui/virtual-table';

const columns: Column[] = [
  { key: 'person', label: 'Person', width: '34%' },
  { key: 'title', label: 'Title', width: '20%' },
  { key: 'department', label: 'Department', width: '18%' },
  { key: 'locality', label: 'Place', width: '16%' },
  { key: 'role', label: 'In the workspace', width: '12%' },
];

export default function PeopleList() {
  const me = useMe();
  const { params, set, q, setQ, settled } = useFilters();
  const kind = params.get('kind') ?? '';
  const lacks = params.get('lacks') ?? '';
  const choose = (name: string, value: string) => set((p) => (value ? p.set(name, value) : p.delete(name)));
  const people = useInfiniteQuery({
    queryKey: ['people', settled, kind, lacks],
    placeholderData: keepPreviousData,
    initialPageParam: '',
    queryFn: ({ pageParam }) =>
      ask(api.GET('/api/v1/people', { params: { query: { q: settled, kind, lacks, cursor: pageParam, limit: 200 } } })),
    getNextPageParam: (last) => last.next || undefined,
  });
  const rows = useMemo(() => people.data?.pages.flatMap((p) => p.items) ?? [], [people.data]);
  return (
    <Flex direction="column" h="full" p={{ base: 3, md: 5 }} gap="3">
      <HStack justify="space-between" wrap="wrap">
        <HStack align="baseline" gap="3">
          <Heading as="h1" size="2xl">
            People
          </Heading>
          <Text color="fg.muted" aria-live="polite">
            {people.data && plural(people.data.pages[0]?.total ?? 0, 'person', 'people')}
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
          data-search
          type="search"
          aria-label="Search people"
          placeholder="Search by the first letters of a name or address  ( / )"
          size="sm"
          maxW="26rem"
          bg="bg.panel"
          value={q}
          onChange={(e) => setQ(e.target.value)}
        />
        {me.may.includes('read_departed') && (
          <NativeSelect.Root size="sm" w="11rem">
            <NativeSelect.Field aria-label="Which people" value={kind} onChange={(e) => choose('kind', e.target.value)}>
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
            value={lacks}
            onChange={(e) => choose('lacks', e.target.value)}
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
      </HStack>
      {people.error ? (
        <Trouble error={people.error} retry={() => void people.refetch()} />
      ) : !people.data ? (
        <Loading what="people" />
      ) : rows.length === 0 ? (
        <Nothing title="Nobody matches." />
      ) : (
        <VirtualTable
          label="People"
          columns={columns}
          rows={rows}
          minWidth="52rem"
          row={(p) => <Row person={p} />}
          more={people.hasNextPage && !people.isFetchingNextPage}
          onMore={() => void people.fetchNextPage()}
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
