import { Badge, Button, Flex, HStack, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { memo, useMemo, useState } from 'react';
import { api, ask, type Group, type Line, type Member, type PeopleList } from '../api/client';
import { date, people, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useList } from '../lib/use-list';
import { useMe } from '../session/me';
import { Many } from '../shared/people-list';
import { PeoplePicker } from '../shared/people-picker';
import { Loading, Nothing, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';
import { type Column, RowHeight, useRows, VirtualTable } from '../ui/virtual-table';
import { useGroup } from './page';
import { Rule } from './rule';

const words = { each: 'each message', digest: 'a digest', conversations: 'own conversations', none: 'none' } as const;

const filters = {
  role: [
    ['', 'every role'],
    ['owner', 'owners'],
    ['moderator', 'moderators'],
    ['member', 'members'],
  ],
  kind: [
    ['', 'everybody'],
    ['person', 'colleagues'],
    ['external', 'external'],
    ['group', 'nested groups'],
    ['departed', 'has left'],
  ],
  delivery: [
    ['', 'any delivery'],
    ['each', 'each message'],
    ['digest', 'a digest'],
    ['conversations', 'own conversations'],
    ['none', 'no mail'],
  ],
  way: [
    ['', 'by any way'],
    ['hand', 'put in by hand'],
    ['rule', 'in by rule'],
  ],
} as const;

const optional = ['delivery', 'since', 'by'] as const;
const columnLabels: Record<(typeof optional)[number], string> = {
  delivery: 'Delivery',
  since: 'Since',
  by: 'Put in by',
};

export default function GroupPeople() {
  const g = useGroup();
  return (
    <Stack gap="5">
      {g.by_rule && <Rule group={g} />}
      {g.may?.includes('add_people') && !g.term.ended_at && <AddPeople group={g} />}
      <People group={g} />
      {!g.by_rule && <Rule group={g} />}
    </Stack>
  );
}

function People({ group: g }: { group: Group }) {
  const [shown, setShown] = useState<string[]>(['delivery', 'since']);
  const [high, setHigh] = useRows();
  const list = useList({
    key: ['member', g.id],
    filters: ['q', 'role', 'kind', 'delivery', 'way'],
    read: (query, cursor) =>
      ask(
        api.GET('/api/v1/groups/{ref}/members', {
          params: { path: { ref: g.id }, query: { ...(query as object), cursor, limit: 200 } },
        }),
      ),
  });
  const may = g.may?.includes('change_people') ?? false;
  const columns: Column[] = [
    ...(may ? [{ key: 'pick', label: <span className="under">Pick</span>, width: '3.2rem' }] : []),
    { key: 'person', label: 'Person', width: 'auto' },
    { key: 'role', label: 'Role', width: '10rem' },
    ...optional
      .filter((c) => shown.includes(c))
      .map((c) => ({ key: c, label: columnLabels[c], width: c === 'by' ? '14rem' : '8rem' })),
    { key: 'out', label: <span className="under">{may ? 'Take out' : 'Leave'}</span>, width: '6.5rem' },
  ];
  const exported = new URLSearchParams(list.query as Record<string, string>).toString();
  return (
    <Panel>
      <HStack mb="3" wrap="wrap" gap="2">
        <Input
          type="search"
          aria-label="Search people in the group"
          placeholder="Filter people"
          size="sm"
          maxW="15rem"
          value={list.q}
          onChange={(e) => list.setQ(e.target.value)}
        />
        {(Object.keys(filters) as (keyof typeof filters)[])
          .filter((f) => f !== 'way' || g.by_rule)
          .map((f) => (
            <NativeSelect.Root key={f} size="sm" w="9.5rem">
              <NativeSelect.Field
                aria-label={{ role: 'Role', kind: 'Kind', delivery: 'Delivery', way: 'Way' }[f]}
                value={list.values(f)[0] ?? ''}
                onChange={(e) => list.set(f, e.target.value)}
              >
                {filters[f].map(([v, label]) => (
                  <option key={v} value={v}>
                    {label}
                  </option>
                ))}
              </NativeSelect.Field>
              <NativeSelect.Indicator />
            </NativeSelect.Root>
          ))}
        <Text color="fg.muted" fontSize="sm" aria-live="polite">
          {list.loaded && `${list.total.toLocaleString('en-GB')} ${list.filtered ? 'match' : 'in it'}`}
        </Text>
        <HStack ml="auto" gap="3" fontSize="sm" wrap="wrap">
          {optional.map((c) => (
            <label key={c}>
              <input
                type="checkbox"
                checked={shown.includes(c)}
                onChange={(e) => setShown(e.target.checked ? [...shown, c] : shown.filter((x) => x !== c))}
              />{' '}
              {columnLabels[c]}
            </label>
          ))}
          <RowHeight rows={high} onRows={setHigh} />
          <a href={`/api/v1/groups/${g.address}/member-export?${exported}`} download>
            <u>Export as CSV</u>
          </a>
        </HStack>
      </HStack>
      {list.picked.size > 0 && <Bulk group={g} picked={[...list.picked]} onDone={() => list.pickAll(false)} />}
      {list.error ? (
        <Trouble error={list.error} retry={list.retry} />
      ) : !list.loaded ? (
        <Loading what="people" />
      ) : list.rows.length === 0 ? (
        <Nothing title={list.filtered ? 'Nobody in it matches.' : 'Nobody is in it.'} />
      ) : (
        <Flex direction="column">
          <VirtualTable
            label="People in the group"
            columns={columns}
            rows={list.rows}
            high={high}
            minWidth="46rem"
            height="34rem"
            more={list.more}
            onMore={list.onMore}
            row={(m) => (
              <Row member={m} group={g} may={may} shown={shown} picked={list.picked.has(m.id)} onPick={list.pick} />
            )}
          />
        </Flex>
      )}
    </Panel>
  );
}

type Patch = { role?: Member['role']; delivery?: Member['delivery']; until?: string; remove?: boolean };

/** Bulk changes those who are picked in one step, and lists whom it could not change. */
function Bulk(props: { group: Group; picked: string[]; onDone: () => void }) {
  const { group: g, picked } = props;
  const change = useChange(
    ['group', 'member', 'person'],
    (patch: Patch) =>
      ask(
        api.PATCH('/api/v1/groups/{ref}/members', {
          params: { path: { ref: g.id } },
          body: { members: picked, ...patch },
        }),
      ),
    {
      onSuccess: (r) => {
        const refused = r.results.filter((x) => x.outcome === 'refused');
        toaster.create({
          type: refused.length ? 'warning' : 'success',
          title: r.says,
          description: refused.map((x) => x.says).join(' '),
        });
        props.onDone();
      },
    },
  );
  const button = (label: string, patch: Patch, red = false) => (
    <Button
      size="xs"
      variant="outline"
      colorPalette={red ? 'red' : 'ivy'}
      loading={change.isPending}
      onClick={() => change.mutate(patch)}
    >
      {label}
    </Button>
  );
  return (
    <HStack
      wrap="wrap"
      bg="bg.muted"
      borderRadius="md"
      p="2"
      mb="3"
      role="toolbar"
      aria-label="Change those who are picked"
    >
      <Text fontSize="sm" fontWeight="600">
        {plural(picked.length, 'person is', 'people are')} picked:
      </Text>
      {button('Make owners', { role: 'owner' })}
      {button('Make moderators', { role: 'moderator' })}
      {button('Make members', { role: 'member' })}
      {button('Each message', { delivery: 'each' })}
      {button('A digest', { delivery: 'digest' })}
      {button('No mail', { delivery: 'none' })}
      <Ends set={(until) => change.mutate({ until })} busy={change.isPending} />
      {button(`Take ${picked.length} out`, { remove: true }, true)}
      <Button size="xs" variant="ghost" colorPalette="gray" onClick={props.onDone}>
        Pick nobody
      </Button>
      <Trouble error={change.error} />
    </HStack>
  );
}

/** Ends gives memberships a last day, or none. */
function Ends({ set, busy }: { set: (until: string) => void; busy: boolean }) {
  const [until, setUntil] = useState('');
  return (
    <HStack gap="1">
      <Input
        size="xs"
        type="date"
        w="8.5rem"
        aria-label="Last day in the group"
        title="Last day in the group; empty for no end"
        value={until}
        onChange={(e) => setUntil(e.target.value)}
      />
      <Button size="xs" variant="outline" colorPalette="ivy" loading={busy} onClick={() => set(until || 'none')}>
        {until ? 'Stay until then' : 'Stay without end'}
      </Button>
    </HStack>
  );
}

const Row = memo(function Row(props: {
  member: Member;
  group: Group;
  may: boolean;
  shown: string[];
  picked: boolean;
  onPick: (id: string, on: boolean) => void;
}) {
  const { member: m, group: g, may } = props;
  const me = useMe();
  const [leaving, setLeaving] = useState(false);
  const path = { ref: g.id, member: m.id };
  const change = useChange(
    ['group', 'member', 'person'],
    (role: Member['role']) =>
      ask(api.PATCH('/api/v1/groups/{ref}/members/{member}', { params: { path }, body: { role } })),
    {
      onSuccess: (_, role) =>
        toaster.create({ type: 'success', title: `${m.name} is now ${role === 'owner' ? 'an owner' : `a ${role}`}` }),
      onError: (e) => toaster.create({ type: 'error', title: 'The role stays as it was', description: e.message }),
    },
  );
  const putBack = useChange(['group', 'member', 'person'], () =>
    ask(
      api.POST('/api/v1/groups/{ref}/members', {
        params: { path: { ref: g.id } },
        body: { people: [{ address: m.address, role: m.role }], quiet: true },
      }),
    ),
  );
  const remove = useChange(
    ['group', 'member', 'person'],
    () => ask(api.DELETE('/api/v1/groups/{ref}/members/{member}', { params: { path } })),
    {
      onSuccess: () =>
        toaster.create({
          type: 'success',
          title: `${m.name} is no longer in ${g.name}`,
          ...(may && m.address ? { action: { label: 'Put back', onClick: () => putBack.mutate() } } : {}),
        }),
      onError: (e) => toaster.create({ type: 'error', title: `${m.name} stays in it`, description: e.message }),
    },
  );
  const self = m.address === me.address;
  return (
    <>
      {may && (
        <td>
          <input
            type="checkbox"
            aria-label={`Pick ${m.name}`}
            checked={props.picked}
            onChange={(e) => props.onPick(m.id, e.target.checked)}
          />
        </td>
      )}
      <td>
        <span className="name">{m.name}</span> {m.external && <Badge colorPalette="brass">external</Badge>}
        {m.kind === 'group' && <Badge colorPalette="gray">group</Badge>}
        {m.by_rule && <Badge colorPalette="gray">by rule</Badge>}
        {!m.active && <Badge colorPalette="gray">has left</Badge>}
        {m.until && <Badge colorPalette="brass">until {date(m.until)}</Badge>}
        {m.name !== m.address && <span className="under">{m.address}</span>}
      </td>
      <td>
        {may && !m.external && m.kind === 'person' ? (
          <select
            className="in-row"
            aria-label={`Role of ${m.name}`}
            value={m.role}
            disabled={change.isPending}
            onChange={(e) => {
              const asked = !self || window.confirm(`You would no longer be ${m.role} of ${g.name}. Do you mean it?`);
              if (asked) change.mutate(e.target.value as Member['role']);
            }}
          >
            <option value="owner">owner</option>
            <option value="moderator">moderator</option>
            <option value="member">member</option>
          </select>
        ) : (
          m.role
        )}
      </td>
      {props.shown.includes('delivery') && <td>{words[m.delivery]}</td>}
      {props.shown.includes('since') && <td>{date(m.added_at)}</td>}
      {props.shown.includes('by') && <td title={m.added_by}>{m.added_by}</td>}
      <td>
        {(may || self) &&
          (leaving ? (
            <Button
              size="xs"
              variant="outline"
              colorPalette="red"
              loading={remove.isPending}
              onClick={() => remove.mutate()}
            >
              Leave it
            </Button>
          ) : (
            <button
              type="button"
              className="in-row"
              disabled={remove.isPending}
              aria-label={self ? 'Leave the group' : `Remove ${m.name}`}
              onClick={() => (self ? setLeaving(true) : remove.mutate())}
            >
              {self ? 'Leave' : 'Remove'}
            </button>
          ))}
      </td>
    </>
  );
});

function AddPeople({ group: g }: { group: Group }) {
  const [many, setMany] = useState(false);
  const [list, setList] = useState<{ address: string; name: string }[]>([]);
  const taken = useMemo(() => list.map((p) => p.address), [list]);
  const add = useChange(
    ['group', 'member', 'joining', 'person'],
    (how: { way: 'direct' | 'invite'; list?: PeopleList }) =>
      ask(
        api.POST('/api/v1/groups/{ref}/members', {
          params: { path: { ref: g.id } },
          body: how.list
            ? { way: how.way, list: how.list }
            : { way: how.way, people: list.map((p) => ({ address: p.address })) },
        }),
      ),
    {
      onSuccess: () => {
        setList([]);
        setMany(false);
      },
    },
  );
  const actions = (n: number, picked?: PeopleList) => (
    <HStack wrap="wrap">
      <Button
        size="sm"
        colorPalette="ivy"
        disabled={n === 0}
        loading={add.isPending}
        onClick={() => add.mutate({ way: 'direct', ...(picked ? { list: picked } : {}) })}
      >
        Add {people(n)}
      </Button>
      <Button
        size="sm"
        variant="outline"
        colorPalette="ivy"
        disabled={n === 0}
        loading={add.isPending}
        onClick={() => add.mutate({ way: 'invite', ...(picked ? { list: picked } : {}) })}
      >
        Invite them, so that they may decline
      </Button>
    </HStack>
  );
  return (
    <Panel
      title="Add people"
      side={
        <Button size="xs" variant="outline" colorPalette="gray" onClick={() => setMany(!many)}>
          {many ? 'One by one' : 'Many at once'}
        </Button>
      }
    >
      <Stack gap="3">
        {many ? (
          <Many
            group={g.address}
            everyone={g.may?.includes('change_people') ?? false}
            actions={(picked, read) => actions(read.ready ?? 0, picked)}
          />
        ) : (
          <>
            <PeoplePicker
              label="Name or address"
              placeholder="Begin to type a name; a group's address nests the group"
              outsiders
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
                {actions(list.length)}
              </HStack>
            )}
          </>
        )}
        <Trouble error={add.error} />
        {add.data && <Results says={add.data.says} list={add.data.results} />}
      </Stack>
    </Panel>
  );
}

function Results({ says, list }: { says: string; list: Line[] }) {
  const rest = list.filter((r) => r.outcome !== 'added' && r.outcome !== 'invited');
  return (
    <Stack gap="1" fontSize="sm" aria-live="polite">
      <Text>{says}</Text>
      {rest.length > 0 && (
        <Stack as="ul" gap="1" listStyleType="none">
          {rest.slice(0, 100).map((r, i) => (
            <li key={i}>
              <b>{r.name || r.given}</b> {r.outcome === 'asked' ? 'is not in it yet' : 'was not'}: {r.says}
            </li>
          ))}
        </Stack>
      )}
    </Stack>
  );
}
