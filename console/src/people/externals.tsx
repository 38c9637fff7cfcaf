import { Badge, Box, Button, Heading, HStack, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, ask, type External } from '../api/client';
import { date, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useList } from '../lib/use-list';
import { tellDecided } from '../shared/decided';
import { PeoplePicker } from '../shared/people-picker';
import { Loading, More, Nothing, Trouble } from '../ui/parts';

const kinds = [
  ['', 'all of them'],
  ['soon', 'ending within 30 days'],
  ['endless', 'without an end'],
  ['alone', 'whom nobody vouches for'],
  ['refused', 'whom the workspace would not take'],
] as const;

/** Externals is the external members of all groups: who vouches for them, why they are in it, until when. */
export default function Externals() {
  const list = useList({
    key: ['member', 'externals'],
    filters: ['q', 'domain', 'group', 'voucher', 'kind', 'alone'],
    read: ({ kind, alone, ...query }, cursor) =>
      ask(
        api.GET('/api/v1/externals', {
          params: {
            query: {
              ...query,
              ...(kind === 'soon' ? { ending_within: 30 } : {}),
              ...(kind === 'endless' ? { endless: true } : {}),
              ...(kind === 'alone' || alone ? { alone: true } : {}),
              ...(kind === 'refused' ? { refused: true } : {}),
              cursor,
              limit: 100,
            },
          },
        }),
      ),
  });
  const mine = list.rows.filter((x) => x.may_change);
  const all = mine.length > 0 && mine.every((x) => list.picked.has(x.id));
  const only = (['group', 'voucher', 'domain', 'alone'] as const).filter((f) => list.values(f)[0]);
  return (
    <Box p={{ base: 3, md: 5 }} maxW="80rem" mx="auto">
      <Stack gap="3">
        <HStack align="baseline" gap="3" wrap="wrap">
          <Heading as="h1" size="2xl">
            External members
          </Heading>
          <Text color="fg.muted" aria-live="polite">
            {list.loaded && plural(list.total, 'membership')}
          </Text>
        </HStack>
        <HStack wrap="wrap" gap="2">
          <Input
            type="search"
            size="sm"
            maxW="16rem"
            aria-label="Search external members"
            placeholder="Name or address"
            value={list.q}
            onChange={(e) => list.setQ(e.target.value)}
          />
          <NativeSelect.Root size="sm" w="17rem">
            <NativeSelect.Field
              aria-label="Which external members"
              value={list.values('kind')[0] ?? ''}
              onChange={(e) => list.set('kind', e.target.value)}
            >
              {kinds.map(([k, label]) => (
                <option key={k} value={k}>
                  {label}
                </option>
              ))}
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
          <Input
            size="sm"
            maxW="13rem"
            aria-label="Domain"
            placeholder="From a domain, then Enter"
            onKeyDown={(e) => {
              if (e.key === 'Enter') list.set('domain', e.currentTarget.value.trim());
            }}
          />
          {only.map((f) => (
            <Button key={f} size="xs" variant="subtle" colorPalette="ivy" onClick={() => list.set(f, '')}>
              {f === 'alone' ? 'nobody vouches' : `${f}: ${list.values(f)[0]}`} ×
            </Button>
          ))}
        </HStack>
        {list.picked.size > 0 && <Many picked={[...list.picked]} onDone={() => list.pickAll(false)} />}
        {list.error ? (
          <Trouble error={list.error} retry={list.retry} />
        ) : !list.loaded ? (
          <Loading what="external members" />
        ) : list.rows.length === 0 ? (
          <Nothing title={list.filtered ? 'Nobody matches.' : 'There are no external members in your groups.'}>
            <Text>People with an address outside the workspace appear here once a group has them.</Text>
          </Nothing>
        ) : (
          <Box overflowX="auto" bg="bg.panel" borderWidth="1px" borderRadius="lg">
            <table className="list" style={{ minWidth: '62rem' }}>
              <thead>
                <tr>
                  <th scope="col" style={{ width: '2.6rem' }}>
                    <input
                      type="checkbox"
                      aria-label="Pick all that you may change"
                      disabled={mine.length === 0}
                      checked={all}
                      onChange={() => mine.forEach((x) => list.pick(x.id, !all))}
                    />
                  </th>
                  <th scope="col">Who</th>
                  <th scope="col">In</th>
                  <th scope="col">Vouched for by</th>
                  <th scope="col" style={{ width: '9rem' }}>
                    Until
                  </th>
                  <th scope="col">Why</th>
                </tr>
              </thead>
              <tbody>
                {list.rows.map((x) => (
                  <Row key={x.id} external={x} picked={list.picked.has(x.id)} onPick={list.pick} />
                ))}
              </tbody>
            </table>
          </Box>
        )}
        <More list={list} />
      </Stack>
    </Box>
  );
}

function Row(props: { external: External; picked: boolean; onPick: (id: string, on: boolean) => void }) {
  const { external: x } = props;
  return (
    <tr>
      <td>
        <input
          type="checkbox"
          aria-label={`Pick ${x.person.address} in ${x.group.name}`}
          disabled={!x.may_change}
          checked={props.picked}
          onChange={(e) => props.onPick(x.id, e.target.checked)}
        />
      </td>
      <td>
        <span className="name">{x.person.name}</span>
        {x.person.name !== x.person.address && <span className="under">{x.person.address}</span>}
        {x.refused && (
          <Badge colorPalette="brass" title={x.refused}>
            not taken any more
          </Badge>
        )}
      </td>
      <td>
        {x.group.address ? (
          <Link to={`/groups/${x.group.address}/people?kind=external`}>
            <u>{x.group.name}</u>
          </Link>
        ) : (
          x.group.name
        )}
      </td>
      <td>
        {x.voucher ? x.voucher.name : <span className="warn">nobody</span>}
        {x.voucher_left && <Badge colorPalette="brass">has left</Badge>}
      </td>
      <td>{x.until ? date(x.until) : <span className="under">no end</span>}</td>
      <td style={{ whiteSpace: 'normal' }}>{x.reason ?? <span className="under">–</span>}</td>
    </tr>
  );
}

type Patch = { until?: string; voucher?: string; reason?: string; remove?: boolean };

/** Many changes those who are picked: each by itself, and says what became of them. */
function Many({ picked, onDone }: { picked: string[]; onDone: () => void }) {
  const [until, setUntil] = useState('');
  const [reason, setReason] = useState('');
  const [sure, setSure] = useState(false);
  const change = useChange(
    ['group', 'member', 'person'],
    (patch: Patch) => ask(api.POST('/api/v1/externals/changes', { body: { ids: picked.slice(0, 500), ...patch } })),
    {
      onSuccess: (done) => {
        tellDecided(done);
        onDone();
      },
    },
  );
  return (
    <HStack
      wrap="wrap"
      align="end"
      gap="3"
      bg="bg.muted"
      borderRadius="md"
      p="3"
      role="toolbar"
      aria-label="Change those who are picked"
    >
      <Text fontSize="sm" fontWeight="600" pb="1">
        {plural(picked.length, 'membership')} picked:
      </Text>
      <HStack gap="1">
        <Input
          size="xs"
          type="date"
          w="8.5rem"
          aria-label="Last day in the group"
          value={until}
          onChange={(e) => setUntil(e.target.value)}
        />
        <Button
          size="xs"
          variant="outline"
          colorPalette="ivy"
          loading={change.isPending}
          onClick={() => change.mutate({ until: until || 'none' })}
        >
          {until ? 'Stay until then' : 'Stay without end'}
        </Button>
      </HStack>
      <Box w="15rem">
        <PeoplePicker
          label="Who vouches for them from now on"
          placeholder="Who vouches from now on"
          taken={[]}
          onPick={(voucher) => change.mutate({ voucher })}
        />
      </Box>
      <HStack gap="1">
        <Input
          size="xs"
          w="11rem"
          aria-label="Why they are in it"
          placeholder="Why they are in it"
          value={reason}
          onChange={(e) => setReason(e.target.value)}
        />
        <Button
          size="xs"
          variant="outline"
          colorPalette="ivy"
          disabled={reason.trim() === ''}
          loading={change.isPending}
          onClick={() => change.mutate({ reason })}
        >
          Write that down
        </Button>
      </HStack>
      <Button
        size="xs"
        variant={sure ? 'solid' : 'outline'}
        colorPalette="red"
        loading={change.isPending}
        onClick={() => (sure ? change.mutate({ remove: true }) : setSure(true))}
      >
        {sure ? `Yes, take ${picked.length} out` : `Take ${picked.length} out`}
      </Button>
      <Button size="xs" variant="ghost" colorPalette="gray" onClick={onDone}>
        Pick nobody
      </Button>
      <Trouble error={change.error} />
    </HStack>
  );
}
