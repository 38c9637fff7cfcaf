import { Badge, Box, Button, HStack, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useInfiniteQuery, useMutation } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { api, ask, type Added, type Group, type Member } from '../api/client';
import { useMe } from '../session/me';
import { date, plural } from '../ui/dates';
import { Loading, Nothing, Panel, Trouble } from '../ui/parts';
import { PeoplePicker } from '../ui/people-picker';
import { useSettled } from '../ui/settled';
import { toaster } from '../ui/toaster';

export function People({ group: g }: { group: Group }) {
  const [q, setQ] = useState('');
  const [role, setRole] = useState('');
  const settled = useSettled(q, 120);
  const members = useInfiniteQuery({
    queryKey: ['members', g.address, settled, role],
    placeholderData: keepPreviousData,
    initialPageParam: '',
    queryFn: ({ pageParam }) =>
      ask(
        api.GET('/api/v1/groups/{ref}/members', {
          params: { path: { ref: g.address }, query: { q: settled, role, cursor: pageParam, limit: 100 } },
        }),
      ),
    getNextPageParam: (last) => last.next || undefined,
  });
  const rows = members.data?.pages.flatMap((p) => p.items) ?? [];
  const total = members.data?.pages[0]?.total ?? 0;
  const may = g.may?.includes('change_people') ?? false;
  return (
    <Stack gap="5">
      {g.may?.includes('add_people') && !g.term.ended_at && <AddPeople group={g} />}
      <Panel>
        <HStack mb="3" wrap="wrap" gap="3">
          <Input
            data-search
            type="search"
            aria-label="Search people in the group"
            placeholder="Search people  ( / )"
            size="sm"
            maxW="18rem"
            value={q}
            onChange={(e) => setQ(e.target.value)}
          />
          <NativeSelect.Root size="sm" w="11rem">
            <NativeSelect.Field aria-label="Role" value={role} onChange={(e) => setRole(e.target.value)}>
              <option value="">every role</option>
              <option value="owner">owners</option>
              <option value="moderator">moderators</option>
              <option value="member">members</option>
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
          <Text color="fg.muted" fontSize="sm" aria-live="polite">
            {members.data && `${total.toLocaleString('en-GB')} in it`}
          </Text>
        </HStack>
        {members.error ? (
          <Trouble error={members.error} retry={() => void members.refetch()} />
        ) : !members.data ? (
          <Loading what="people" />
        ) : rows.length === 0 ? (
          <Nothing title={q || role ? 'Nobody in it matches.' : 'Nobody is in it.'} />
        ) : (
          <Box overflowX="auto">
            <table className="list" style={{ minWidth: '46rem' }}>
              <thead>
                <tr>
                  <th scope="col" style={{ width: '42%' }}>
                    Person
                  </th>
                  <th scope="col" style={{ width: '20%' }}>
                    Role
                  </th>
                  <th scope="col" style={{ width: '13%' }}>
                    Delivery
                  </th>
                  <th scope="col" style={{ width: '13%' }}>
                    Since
                  </th>
                  <th scope="col" style={{ width: '12%' }}>
                    <span className="under">{may ? 'Take out' : ''}</span>
                  </th>
                </tr>
              </thead>
              <tbody>
                {rows.map((m) => (
                  <Row key={m.id} member={m} group={g} may={may} />
                ))}
              </tbody>
            </table>
          </Box>
        )}
        {members.hasNextPage && (
          <Button
            mt="3"
            size="sm"
            variant="outline"
            colorPalette="gray"
            loading={members.isFetchingNextPage}
            onClick={() => void members.fetchNextPage()}
          >
            Show more
          </Button>
        )}
      </Panel>
    </Stack>
  );
}

function Row({ member: m, group: g, may }: { member: Member; group: Group; may: boolean }) {
  const me = useMe();
  const path = { ref: g.address, member: m.id };
  const change = useMutation({
    mutationFn: (role: string) =>
      ask(api.PATCH('/api/v1/groups/{ref}/members/{member}', { params: { path }, body: { role } })),
    onSuccess: (_, role) =>
      toaster.create({ type: 'success', title: `${m.name} is now ${role === 'owner' ? 'an owner' : `a ${role}`}` }),
    onError: (e) => toaster.create({ type: 'error', title: 'The role stays as it was', description: e.message }),
  });
  const putBack = useMutation({
    mutationFn: () =>
      ask(
        api.POST('/api/v1/groups/{ref}/members', {
          params: { path: { ref: g.address } },
          body: { people: [{ address: m.address, role: m.role }] },
        }),
      ),
  });
  const remove = useMutation({
    mutationFn: () => ask(api.DELETE('/api/v1/groups/{ref}/members/{member}', { params: { path } })),
    onSuccess: () =>
      toaster.create({
        type: 'success',
        title: `${m.name} is no longer in ${g.name}`,
        ...(may ? { action: { label: 'Put back', onClick: () => putBack.mutate() } } : {}),
      }),
    onError: (e) => toaster.create({ type: 'error', title: `${m.name} stays in it`, description: e.message }),
  });
  const self = m.address === me.address;
  return (
    <tr>
      <td>
        <span className="name">{m.name}</span> {m.external && <Badge colorPalette="brass">external</Badge>}
        {m.kind === 'group' && <Badge colorPalette="gray">group</Badge>}
        {!m.active && <Badge colorPalette="gray">has left</Badge>}
        {m.name !== m.address && <span className="under">{m.address}</span>}
      </td>
      <td>
        {may && !m.external && m.kind === 'person' ? (
          <NativeSelect.Root size="xs" w="8.5rem" {...(change.isPending ? { disabled: true } : {})}>
            <NativeSelect.Field
              aria-label={`Role of ${m.name}`}
              value={m.role}
              onChange={(e) => change.mutate(e.target.value)}
            >
              <option value="owner">owner</option>
              <option value="moderator">moderator</option>
              <option value="member">member</option>
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        ) : (
          m.role
        )}
      </td>
      <td>{m.delivery === 'each' ? 'each message' : 'none'}</td>
      <td title={`by ${m.added_by}`}>{date(m.added_at)}</td>
      <td>
        {(may || self) && (
          <Button
            size="xs"
            variant="ghost"
            colorPalette="gray"
            loading={remove.isPending}
            aria-label={self ? 'Leave the group' : `Remove ${m.name}`}
            onClick={() => remove.mutate()}
          >
            {self ? 'Leave' : 'Remove'}
          </Button>
        )}
      </td>
    </tr>
  );
}

function AddPeople({ group: g }: { group: Group }) {
  const [list, setList] = useState<{ address: string; name: string }[]>([]);
  const taken = useMemo(() => list.map((p) => p.address), [list]);
  const add = useMutation({
    mutationFn: () =>
      ask(
        api.POST('/api/v1/groups/{ref}/members', {
          params: { path: { ref: g.address } },
          body: { people: list.map((p) => ({ address: p.address })) },
        }),
      ),
    onSuccess: () => setList([]),
  });
  return (
    <Panel title="Add people">
      <Stack gap="3">
        <PeoplePicker
          label="Name or address"
          placeholder="Begin to type a name"
          outsiders={g.externals !== 'barred'}
          taken={taken}
          onPick={(address, name) => setList((l) => [...l, { address, name }])}
        />
        {list.length > 0 && (
          <HStack wrap="wrap">
            {list.map((p) => (
              <Button
                key={p.address}
                size="xs"
                variant="subtle"
                colorPalette="ivy"
                title={p.address}
                aria-label={`Take ${p.name} off the list`}
                onClick={() => setList(list.filter((x) => x.address !== p.address))}
              >
                {p.name} ×
              </Button>
            ))}
            <Button size="sm" colorPalette="ivy" loading={add.isPending} onClick={() => add.mutate()}>
              Add {plural(list.length, 'person', 'people')}
            </Button>
          </HStack>
        )}
        <Trouble error={add.error} />
        {add.data && <Results list={add.data.results} />}
      </Stack>
    </Panel>
  );
}

function Results({ list }: { list: Added[] }) {
  return (
    <Stack as="ul" gap="1" fontSize="sm" aria-live="polite" listStyleType="none">
      {list.map((r) => (
        <li key={r.given}>
          <b>{r.name || r.given}</b> {r.outcome === 'added' ? 'was added.' : r.says}
        </li>
      ))}
    </Stack>
  );
}
