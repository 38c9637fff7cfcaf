import { Box, Button, Grid, Heading, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import { api, ask, type Finding, type FindingKind } from '../api/client';
import { date, moment, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useList } from '../lib/use-list';
import { useMe } from '../session/me';
import { severities, Severity, Standing, useFindingKinds } from '../shared/findings';
import { PeoplePicker } from '../shared/people-picker';
import { Choice, Loading, More, Nothing, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';
import { Limits } from './limits';
import { Mends } from './mending';

const states = [
  ['open', 'open'],
  ['assigned', 'given to somebody'],
  ['accepted', 'known and fine'],
  ['', 'all'],
] as const;

/** Findings is what is wrong or doubtful across the directory, and what mends it. */
export default function Findings() {
  const [params] = useSearchParams();
  const kinds = useFindingKinds();
  const chosen = params.get('kind') ?? '';
  if (!kinds.data) return kinds.error ? <Trouble error={kinds.error} /> : <Loading what="the findings" />;
  const kind = kinds.data.items.find((k) => k.kind === chosen);
  return (
    <Grid templateColumns={{ base: 'minmax(0, 1fr)', lg: '17rem minmax(0, 1fr)' }} gap="5" alignItems="start">
      <Rail kinds={kinds.data.items} open={kinds.data.open} chosen={chosen} />
      <Stack gap="5" minW="0">
        <Found key={chosen} kind={kind} kinds={kinds.data.items} total={kinds.data.open} />
        <Text fontSize="sm" color="fg.muted">
          {kinds.data.reviewed_at
            ? `${plural(kinds.data.groups, 'group')} were looked at on ${moment(kinds.data.reviewed_at)}; what changes is looked at again at once.`
            : 'The whole directory is being looked at for the first time.'}
        </Text>
        <Limits />
      </Stack>
    </Grid>
  );
}

/** Rail leads to the kinds, those that weigh most first. */
function Rail(props: { kinds: FindingKind[]; open: number; chosen: string }) {
  const [params] = useSearchParams();
  const state = params.get('state');
  const to = (kind: string) => {
    const p = new URLSearchParams({ ...(kind ? { kind } : {}), ...(state ? { state } : {}) });
    return `/care/findings?${p}`;
  };
  const line = (kind: string, title: string, n: number, off?: boolean) => (
    <Link
      key={kind}
      to={to(kind)}
      aria-current={props.chosen === kind ? 'true' : undefined}
      className={props.chosen === kind ? 'rail here' : 'rail'}
    >
      <span>{title}</span>
      <span className="num">{off ? 'off' : n.toLocaleString('en-GB')}</span>
    </Link>
  );
  return (
    <Box as="nav" aria-label="Kinds of findings" fontSize="sm" display={{ base: 'none', lg: 'block' }}>
      {line('', 'All that is open', props.open)}
      {(['serious', 'doubtful', 'minor'] as const).map((s) => (
        <Box key={s} mt="3">
          <Box px="2" mb="1">
            <Severity of={s} />
          </Box>
          {props.kinds.filter((k) => k.severity === s).map((k) => line(k.kind, k.title, k.open, k.off))}
        </Box>
      ))}
    </Box>
  );
}

function Found({ kind, kinds, total }: { kind: FindingKind | undefined; kinds: FindingKind[]; total: number }) {
  const me = useMe();
  const may = me.may.includes('change_review');
  const list = useList<Finding>({
    key: ['review', 'list'],
    filters: ['kind', 'severity', 'state'],
    read: (query, cursor) =>
      ask(
        api.GET('/api/v1/findings', {
          params: {
            query: {
              state: 'open',
              ...query,
              ...(query.state === 'all' ? { state: undefined } : {}),
              cursor,
              limit: 100,
            } as never,
          },
        }),
      ),
  });
  const picked = list.rows.filter((f) => list.picked.has(f.id));
  const groups = picked.flatMap((f) => (f.group ? [f.group.address] : []));
  const state = list.values('state')[0] ?? 'open';
  return (
    <Panel>
      <Stack gap="4">
        <HStack justify="space-between" align="start" wrap="wrap" gap="3">
          <Box>
            <Heading as="h2" size="lg">
              {kind ? kind.title : plural(total, 'open finding')}
            </Heading>
            <Text color="fg.muted" fontSize="sm">
              {kind
                ? `${plural(kind.open, 'open finding')}. ${kind.why}`
                : 'Everything that the review found, the weightiest first.'}
              {kind && kind.accepted > 0 && ` ${plural(kind.accepted, 'other')} known and fine.`}
            </Text>
          </Box>
          <HStack align="end" wrap="wrap">
            <Box display={{ lg: 'none' }} maxW="full">
              <Choice
                label="Kind"
                value={kind?.kind ?? ''}
                choices={[['', 'all'], ...kinds.map((k) => [k.kind, `${k.title} (${k.open})`] as const)]}
                onChange={(v) => list.set('kind', v)}
              />
            </Box>
            {!kind && (
              <Box w="9rem">
                <Choice
                  label="Weight"
                  value={list.values('severity')[0] ?? ''}
                  choices={[['', 'any'], ...Object.entries(severities)]}
                  onChange={(v) => list.set('severity', v)}
                />
              </Box>
            )}
            <Box w="11rem">
              <Choice
                label="Which"
                value={state === 'all' ? '' : state}
                choices={states}
                onChange={(v) => list.set('state', v === 'open' ? '' : v || 'all')}
              />
            </Box>
          </HStack>
        </HStack>
        {may && kind && kind.open > 0 && (
          <HStack wrap="wrap">
            <Text fontSize="sm" color="fg.muted">
              {picked.length > 0 ? `For ${plural(picked.length, 'picked one')}:` : `For all ${kind.open}:`}
            </Text>
            <Mends kind={kind} picked={groups} />
          </HStack>
        )}
        {may && (picked.length > 0 || kind) && list.total > 0 && (
          <Deciding
            key={state}
            accepted={state === 'accepted'}
            assigned={state === 'assigned'}
            n={picked.length || list.total}
            choice={
              picked.length > 0
                ? { ids: picked.map((f) => f.id) }
                : { list: { kinds: kind ? [kind.kind] : [], ...(state === 'all' ? {} : { state: state as 'open' }) } }
            }
            onDone={() => list.pickAll(false)}
          />
        )}
        <Trouble error={list.error} retry={list.retry} />
        {!list.loaded && !list.error && <Loading what="the findings" />}
        {list.loaded && list.rows.length === 0 && (
          <Nothing title={kind?.off ? 'This is not looked for.' : 'There is nothing of this kind.'}>
            <Text>{kind?.off ? 'Switch it on below.' : 'Choose another on the left.'}</Text>
          </Nothing>
        )}
        {list.rows.length > 0 && (
          <Box overflowX="auto">
            <table className="list">
              <thead>
                <tr>
                  {may && (
                    <th scope="col" style={{ width: '2.6rem' }}>
                      <input
                        type="checkbox"
                        aria-label="Pick all that are shown"
                        checked={picked.length === list.rows.length}
                        onChange={(e) => list.pickAll(e.target.checked)}
                      />
                    </th>
                  )}
                  <th scope="col" className="about">
                    About
                  </th>
                  <th scope="col" className="wide">
                    What was found
                  </th>
                  {!kind && (
                    <th scope="col" className="wide" style={{ width: '7rem' }}>
                      Weight
                    </th>
                  )}
                  <th scope="col" className="wide" style={{ width: '8rem' }}>
                    Since
                  </th>
                </tr>
              </thead>
              <tbody>
                {list.rows.map((f) => {
                  const about = f.group ?? f.person;
                  return (
                    <tr key={f.id}>
                      {may && (
                        <td>
                          <input
                            type="checkbox"
                            aria-label={`Pick ${about?.name}: ${f.title}`}
                            checked={list.picked.has(f.id)}
                            onChange={(e) => list.pick(f.id, e.target.checked)}
                          />
                        </td>
                      )}
                      <td>
                        <Link className="name" to={f.group ? `/groups/${about?.address}` : `/people/${about?.address}`}>
                          {about?.name}
                        </Link>
                        <span className="under">{about?.address}</span>
                        <span className="narrow">{f.says}</span>
                      </td>
                      <td className="wide" style={{ whiteSpace: 'normal' }}>
                        {f.says}
                        {f.state !== 'open' && (
                          <span className="under" style={{ whiteSpace: 'normal' }}>
                            <Standing finding={f} />
                          </span>
                        )}
                      </td>
                      {!kind && (
                        <td className="wide">
                          <Severity of={f.severity} />
                        </td>
                      )}
                      <td className="wide">{date(f.since)}</td>
                    </tr>
                  );
                })}
              </tbody>
            </table>
            <More list={list} />
          </Box>
        )}
      </Stack>
    </Panel>
  );
}

type Choose = { ids: string[] } | { list: { kinds: string[]; state?: 'open' | 'assigned' | 'accepted' } };

/** Deciding says that findings are known and fine, or gives them to somebody to mend. */
function Deciding(props: { n: number; choice: Choose; accepted: boolean; assigned: boolean; onDone: () => void }) {
  const [doing, setDoing] = useState<'accept' | 'assign'>();
  const [reason, setReason] = useState('');
  const [until, setUntil] = useState('');
  const [to, setTo] = useState({ address: 'owners', name: 'the owners of each group' });
  const [note, setNote] = useState('');
  const done = (says: string, refused: { says: string }[]) => {
    const [first] = refused;
    toaster.create({ type: first ? 'warning' : 'success', title: says, ...(first ? { description: first.says } : {}) });
    setDoing(undefined);
    setReason('');
    setNote('');
    props.onDone();
  };
  const accept = useChange<string>(['review', 'group'], async (why) => {
    const r = await ask(
      api.POST('/api/v1/findings/acceptances', {
        body: { ...props.choice, reason: why, ...(why && until ? { until } : {}) },
      }),
    );
    done(r.says, r.refused ?? []);
  });
  const assign = useChange<string>(['review'], async (address) => {
    const r = await ask(
      api.POST('/api/v1/findings/assignments', { body: { ...props.choice, to: address, ...(note ? { note } : {}) } }),
    );
    done(r.says, r.refused ?? []);
  });
  const n = plural(props.n, 'finding');
  return (
    <Stack gap="2" fontSize="sm">
      <HStack wrap="wrap">
        {props.accepted ? (
          <Button
            size="xs"
            variant="outline"
            colorPalette="gray"
            loading={accept.isPending}
            onClick={() => accept.mutate('')}
          >
            Open {n} again
          </Button>
        ) : (
          <Button
            size="xs"
            variant="outline"
            colorPalette="gray"
            aria-expanded={doing === 'accept'}
            onClick={() => setDoing(doing === 'accept' ? undefined : 'accept')}
          >
            Known and fine…
          </Button>
        )}
        {!props.accepted && (
          <Button
            size="xs"
            variant="outline"
            colorPalette="gray"
            aria-expanded={doing === 'assign'}
            onClick={() => setDoing(doing === 'assign' ? undefined : 'assign')}
          >
            Give to somebody…
          </Button>
        )}
        {props.assigned && (
          <Button
            size="xs"
            variant="outline"
            colorPalette="gray"
            loading={assign.isPending}
            onClick={() => assign.mutate('nobody')}
          >
            Take {n} back
          </Button>
        )}
      </HStack>
      {doing === 'accept' && (
        <HStack wrap="wrap">
          <Input
            size="sm"
            maxW="24rem"
            aria-label="Why it is fine"
            placeholder="Why it is fine"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          />
          <HStack as="label">
            <Text whiteSpace="nowrap">open again on</Text>
            <Input
              size="sm"
              type="date"
              aria-label="Open again on"
              value={until}
              onChange={(e) => setUntil(e.target.value)}
            />
          </HStack>
          <Button
            size="sm"
            colorPalette="ivy"
            disabled={!reason.trim()}
            loading={accept.isPending}
            onClick={() => accept.mutate(reason)}
          >
            {n} known and fine
          </Button>
        </HStack>
      )}
      {doing === 'assign' && (
        <Stack gap="2">
          <HStack wrap="wrap">
            <Text>
              To <b>{to.name}</b>
            </Text>
            {to.address !== 'owners' && (
              <Button
                size="2xs"
                variant="ghost"
                colorPalette="gray"
                onClick={() => setTo({ address: 'owners', name: 'the owners of each group' })}
              >
                The owners instead
              </Button>
            )}
            <Box w="16rem">
              <PeoplePicker
                label="To somebody else"
                placeholder="Or somebody else"
                taken={[]}
                onPick={(address, name) => setTo({ address, name })}
              />
            </Box>
          </HStack>
          <HStack>
            <Input
              size="sm"
              maxW="30rem"
              aria-label="A note for the letter"
              placeholder="A note for their letter, if you like"
              value={note}
              onChange={(e) => setNote(e.target.value)}
            />
            <Button size="sm" colorPalette="ivy" loading={assign.isPending} onClick={() => assign.mutate(to.address)}>
              Give {n}
            </Button>
          </HStack>
          <Text color="fg.muted">Each of them gets one letter about all that is theirs to mend.</Text>
        </Stack>
      )}
      <Trouble error={accept.error ?? assign.error} />
    </Stack>
  );
}
