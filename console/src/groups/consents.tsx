import { Box, Button, HStack, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, ask, type Group, type Nested } from '../api/client';
import { date } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { GroupField } from '../shared/group-field';
import { Loading, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';

type Scope = 'counted' | 'seen';

const scopes: Record<Scope, string> = {
  counted: 'its people are counted there, not shown',
  seen: 'whoever sees the people there sees them too',
};

/** ScopeChoice chooses what is agreed about the people of a group that is in another. */
export function ScopeChoice(props: { value: Scope; label: string; onChange: (s: Scope) => void }) {
  return (
    <NativeSelect.Root size="xs" w="auto" minW="17rem" display="inline-block">
      <NativeSelect.Field
        aria-label={props.label}
        value={props.value}
        onChange={(e) => props.onChange(e.target.value as Scope)}
      >
        {(Object.keys(scopes) as Scope[]).map((s) => (
          <option key={s} value={s}>
            {scopes[s]}
          </option>
        ))}
      </NativeSelect.Field>
      <NativeSelect.Indicator />
    </NativeSelect.Root>
  );
}

/** Consents is what is agreed and asked for about groups in this one, and about this one in others. */
export function Consents({ group: g }: { group: Group }) {
  const all = useQuery({
    queryKey: ['member', 'consents', g.id],
    queryFn: () =>
      ask(api.GET('/api/v1/groups/{ref}/consents', { params: { path: { ref: g.id }, query: { limit: 200 } } })),
  });
  if (all.isPending) return <Loading what="what is agreed" />;
  if (!all.data) return <Trouble error={all.error} retry={() => void all.refetch()} />;
  const within = all.data.items.filter((x) => x.outer.address === g.address);
  const around = all.data.items.filter((x) => x.outer.address !== g.address);
  const left = all.data.total - all.data.items.length;
  return (
    <Panel title="What is agreed">
      <Stack gap="4">
        {within.length > 0 && <Side title={`Groups in ${g.name}`} group={g} rows={within} />}
        {around.length > 0 && <Side title={`${g.name} in others`} group={g} rows={around} />}
        {all.data.items.length === 0 && (
          <Text fontSize="sm" color="fg.muted">
            No group is in it, and it is in none.
          </Text>
        )}
        {left > 0 && <Text fontSize="sm">{left} more are not shown here; the command line lists them all.</Text>}
        {g.may?.includes('add_people') && !g.term.ended_at && <Nest group={g} />}
      </Stack>
    </Panel>
  );
}

function Side(props: { title: string; group: Group; rows: Nested[] }) {
  return (
    <Box>
      <Text fontWeight="600" fontSize="sm" mb="1">
        {props.title}
      </Text>
      <Stack as="ul" gap="0" listStyleType="none" borderWidth="1px" borderRadius="md">
        {props.rows.map((x, i) => (
          <One key={x.id} nested={x} group={props.group} first={i === 0} />
        ))}
      </Stack>
    </Box>
  );
}

/** One is one group in another, with what is agreed about it and what I may do about that. */
function One({ nested: x, group: g, first }: { nested: Nested; group: Group; first: boolean }) {
  const inner = x.inner.address === g.address;
  const other = inner ? x.outer : x.inner;
  const [scope, setScope] = useState<Scope>(x.consent === 'seen' ? 'seen' : 'counted');
  const give = useChange(
    ['group', 'member', 'post', 'me'],
    (consent: Scope) =>
      ask(
        api.PUT('/api/v1/groups/{ref}/consents/{other}', {
          params: { path: { ref: x.inner.address, other: x.outer.address } },
          body: { consent },
        }),
      ),
    { onSuccess: () => toaster.create({ type: 'success', title: `${x.inner.name} is in ${x.outer.name}` }) },
  );
  const end = useChange(
    ['group', 'member', 'post', 'me'],
    () =>
      ask(
        api.DELETE('/api/v1/groups/{ref}/consents/{other}', {
          params: {
            path: { ref: inner ? x.inner.address : x.outer.address, other: inner ? x.outer.address : x.inner.address },
          },
        }),
      ),
    {
      onSuccess: () =>
        toaster.create({
          type: 'success',
          title: x.in
            ? `${x.inner.name} is no longer in ${x.outer.name}`
            : `${x.inner.name} is not asked for any longer`,
        }),
    },
  );
  const decides = inner && x.may_decide;
  const ends = other.address !== '' && (decides || (!inner && x.may_end));
  return (
    <HStack as="li" px="3" py="2" gap="3" wrap="wrap" borderTopWidth={first ? '0' : '1px'} fontSize="sm">
      <Box flex="1" minW="16rem">
        {other.address ? (
          <Link to={`/groups/${other.address}/nesting`}>
            <u>{other.name}</u>
          </Link>
        ) : (
          other.name
        )}
        <Text as="span" color="fg.muted">
          {' · '}
          {state(x)}
        </Text>
        {x.doubts.map((d) => (
          <Text key={d} color="fg.muted" fontSize="xs">
            {d}
          </Text>
        ))}
      </Box>
      {decides && (
        <ScopeChoice
          label={`What is agreed about ${x.inner.name} in ${x.outer.name}`}
          value={scope}
          onChange={(s) => {
            setScope(s);
            if (x.consent !== 'asked') give.mutate(s);
          }}
        />
      )}
      {decides && x.consent === 'asked' && (
        <Button size="xs" colorPalette="ivy" loading={give.isPending} onClick={() => give.mutate(scope)}>
          Agree
        </Button>
      )}
      {ends && (
        <Button
          size="xs"
          variant="outline"
          colorPalette={x.in ? 'red' : 'gray'}
          loading={end.isPending}
          aria-label={
            x.in
              ? `Take ${x.inner.name} out of ${x.outer.name}`
              : `${inner ? 'Decline' : 'Ask no longer'}: ${x.inner.name} in ${x.outer.name}`
          }
          onClick={() => end.mutate()}
        >
          {x.in ? `Take ${x.inner.name} out` : inner ? 'Decline' : 'Ask no longer'}
        </Button>
      )}
      <Trouble error={give.error ?? end.error} />
    </HStack>
  );
}

const state = (x: Nested) => {
  if (x.consent !== 'asked') return `${scopes[x.consent]}${x.decided_at ? `, agreed on ${date(x.decided_at)}` : ''}`;
  return x.in
    ? `in it since ${date(x.since)}; its owners are asked, and until they agree its people are neither shown nor counted`
    : `its owners were asked on ${date(x.since)}; it comes in when they agree`;
};

/** Nest puts a group into this one, or asks those who run it, and says beforehand which. */
function Nest({ group: g }: { group: Group }) {
  const [inner, setInner] = useState('');
  const [scope, setScope] = useState<Scope>('counted');
  const [without, setWithout] = useState(false);
  const [round, setRound] = useState(0);
  const body = { people: [{ address: inner }], consent: scope, without_externals: without };
  const look = useQuery({
    queryKey: ['member', 'nest', g.id, inner, scope, without],
    enabled: inner !== '',
    queryFn: () => ask(api.POST('/api/v1/groups/{ref}/members/preview', { params: { path: { ref: g.id } }, body })),
  });
  const add = useChange(
    ['group', 'member', 'post', 'me'],
    () => ask(api.POST('/api/v1/groups/{ref}/members', { params: { path: { ref: g.id } }, body })),
    {
      onSuccess: (r) => {
        toaster.create({ type: 'success', title: r.says });
        setInner('');
        setRound(round + 1);
      },
    },
  );
  const line = look.data?.sample[0];
  return (
    <Box>
      <Text fontWeight="600" fontSize="sm" mb="1">
        Put a group into {g.name}
      </Text>
      <Stack gap="2" maxW="36rem" fontSize="sm">
        <GroupField key={round} label="Group to put into it" onPick={setInner} />
        {inner !== '' && line && (
          <>
            <Text aria-live="polite">
              {line.outcome === 'added'
                ? `Its people get the mail of ${g.name}. You may change it, so you agree for its side:`
                : line.says}
            </Text>
            {line.outcome === 'added' && (
              <ScopeChoice label="What is agreed about its people" value={scope} onChange={setScope} />
            )}
            {(line.status === 'external' || without) && (
              <label>
                <input type="checkbox" checked={without} onChange={(e) => setWithout(e.target.checked)} /> without its
                external members
              </label>
            )}
            <Box>
              <Button
                size="sm"
                colorPalette="ivy"
                disabled={line.outcome === 'refused' || line.outcome === 'already'}
                loading={add.isPending}
                onClick={() => add.mutate()}
              >
                {line.outcome === 'asked' ? 'Ask its owners' : `Put it into ${g.name}`}
              </Button>
            </Box>
          </>
        )}
        <Trouble error={look.error ?? add.error} />
      </Stack>
    </Box>
  );
}
