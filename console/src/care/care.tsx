import { Box, Button, Field, Grid, Heading, HStack, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useWatch } from 'react-hook-form';
import { Link } from 'react-router';
import { api, ask, type Expiry } from '../api/client';
import { date, inWords, plural } from '../lib/dates';
import { useDraft } from '../lib/use-draft';
import { useList } from '../lib/use-list';
import { useSettled } from '../lib/use-settled';
import { useMe } from '../session/me';
import { State } from '../shared/state';
import { Loading, More, Moved, Nothing, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';

export default function Care() {
  const expiry = useQuery({ queryKey: ['life', 'expiry'], queryFn: () => ask(api.GET('/api/v1/expiry')) });
  return (
    <Box p={{ base: 3, md: 5 }} maxW="80rem" mx="auto">
      <Heading as="h1" size="2xl" mb="4">
        Care
      </Heading>
      <Grid templateColumns={{ base: 'minmax(0, 1fr)', lg: '3fr 2fr' }} gap="5" alignItems="start">
        {expiry.data ? (
          <Rule saved={expiry.data} />
        ) : expiry.error ? (
          <Trouble error={expiry.error} retry={() => void expiry.refetch()} />
        ) : (
          <Loading what="the rule" />
        )}
        <Stack gap="5">
          <Forecast />
          <Restorable />
          <Nestings />
        </Stack>
      </Grid>
    </Box>
  );
}

/** Nestings lists the groups in groups about which there is a doubt. */
function Nestings() {
  const list = useList({
    key: ['member', 'nestings'],
    read: (_, cursor) => ask(api.GET('/api/v1/nestings', { params: { query: { cursor, limit: 100 } } })),
  });
  const doubtful = list.rows.filter((n) => n.doubts.length > 0);
  return (
    <Panel title="Groups in groups">
      {list.error ? (
        <Trouble error={list.error} retry={list.retry} />
      ) : !list.loaded ? (
        <Loading what="groups in groups" />
      ) : (
        <Stack gap="3">
          <Text color="fg.muted" fontSize="sm">
            {plural(list.total, 'group')} in other groups; mail to the outer one reaches their people by its policy
            alone.
            {doubtful.length === 0 && ' Nothing is doubtful about them.'}
          </Text>
          {doubtful.map((n) => (
            <Box key={n.id} fontSize="sm">
              <Text>
                <Link to={`/groups/${n.inner.address}`}>
                  <u>{n.inner.name}</u>
                </Link>{' '}
                in{' '}
                <Link to={`/groups/${n.outer.address}`}>
                  <u>{n.outer.name}</u>
                </Link>
              </Text>
              <Text color="fg.muted">{n.doubts.join(' ')}</Text>
            </Box>
          ))}
          <More list={list} />
        </Stack>
      )}
    </Panel>
  );
}

type Form = { term_days: string; scope: Expiry['scope']; notices: string; caretaker: string; time_zone: string };

const number = (s: string) => (/^\d+$/.test(s.trim()) ? Number(s.trim()) : Number.NaN);
const bodyOf = (f: Form): Expiry => ({
  term_days: number(f.term_days),
  scope: f.scope,
  notices: f.notices
    .split(/[\s,]+/)
    .filter(Boolean)
    .map(number),
  caretaker: f.caretaker.trim(),
  time_zone: f.time_zone.trim(),
});

function Rule({ saved }: { saved: Expiry }) {
  const may = useMe().may.includes('change_terms');
  const draft = useDraft<Form, Expiry>({
    saved: {
      term_days: String(saved.term_days),
      scope: saved.scope,
      notices: saved.notices.join(', '),
      caretaker: saved.caretaker,
      time_zone: saved.time_zone,
    },
    version: saved.version ?? 0,
    touches: ['life', 'group', 'me'],
    save: (f, tag) => ask(api.PUT('/api/v1/expiry', { params: { header: { 'If-Match': tag } }, body: bodyOf(f) })),
    onSaved: () => toaster.create({ type: 'success', title: 'The rule is in force' }),
  });
  const { register } = draft;
  const body = bodyOf(useWatch({ control: draft.form.control }) as Form);
  const unreadable = Number.isNaN(body.term_days)
    ? 'The term has to be a number of days.'
    : body.notices.some(Number.isNaN)
      ? 'The notice days have to be numbers, such as 30, 15, 1.'
      : '';
  const asked = JSON.stringify(body);
  const settled = useSettled(asked, 200);
  const preview = useQuery({
    queryKey: ['life', 'expiry', 'preview', settled],
    enabled: draft.dirty && may && unreadable === '' && settled === asked,
    queryFn: () => ask(api.POST('/api/v1/expiry/preview', { body: JSON.parse(settled) as Expiry })),
  });
  const p = unreadable ? undefined : preview.data;
  const says = (field: keyof Form) =>
    draft.problem(field) ?? p?.problems.find((x) => x.field === field || x.field.startsWith(field + '['))?.says;
  const unplaced = p?.problems.filter((x) => !(x.field.replace(/\[.*/, '') in draft.form.getValues())) ?? [];
  const text = (
    field: 'term_days' | 'notices' | 'caretaker' | 'time_zone',
    label: string,
    width: string,
    help = '',
  ) => (
    <Field.Root w={width} invalid={draft.dirty && !!says(field)}>
      <Field.Label>{label}</Field.Label>
      <Input disabled={!may} {...(field === 'term_days' ? { inputMode: 'numeric' } : {})} {...register(field)} />
      {help && <Field.HelperText>{help}</Field.HelperText>}
      <Field.ErrorText>{says(field)}</Field.ErrorText>
    </Field.Root>
  );
  return (
    <Panel title="How long groups live">
      <Stack gap="4">
        <Moved draft={draft} />
        <HStack gap="4" align="start" wrap="wrap">
          {text('term_days', 'Term in days', '10rem', '0: groups never expire')}
          <Field.Root w="12rem">
            <Field.Label>Applies to</Field.Label>
            <NativeSelect.Root disabled={!may}>
              <NativeSelect.Field {...register('scope')}>
                <option value="all">all groups</option>
                <option value="chosen">chosen groups</option>
                <option value="none">no groups</option>
              </NativeSelect.Field>
              <NativeSelect.Indicator />
            </NativeSelect.Root>
          </Field.Root>
          {text('notices', 'Notices, days before', '12rem')}
          {text('caretaker', 'Caretaker', '20rem', 'Gets the notices of groups that nobody owns.')}
          {text('time_zone', 'Time zone', '14rem', 'Days begin at its midnight.')}
        </HStack>
        {draft.dirty && (
          <Stack gap="3" borderTopWidth="1px" pt="4" aria-live="polite">
            <Trouble error={unreadable || (preview.error ?? draft.error)} />
            {unplaced.map((x) => (
              <Trouble key={x.field + x.says} error={x.says} />
            ))}
            {p && p.problems.length === 0 && (
              <>
                <Text fontSize="lg">{p.says}</Text>
                {p.effects
                  .filter((e) => e.field === 'ownerless')
                  .map((e) => (
                    <Text key={e.field} className="warn">
                      {e.says}
                    </Text>
                  ))}
                {p.sample.length > 0 && (
                  <table className="list">
                    <thead>
                      <tr>
                        <th scope="col">Group</th>
                        <th scope="col">Expires now</th>
                        <th scope="col">Would expire</th>
                      </tr>
                    </thead>
                    <tbody>
                      {p.sample.map((m) => (
                        <tr key={m.address}>
                          <td>{m.name}</td>
                          <td>{m.from ? inWords(m.from) : 'never'}</td>
                          <td>{m.to ? inWords(m.to) : 'never'}</td>
                        </tr>
                      ))}
                    </tbody>
                  </table>
                )}
              </>
            )}
            <HStack>
              <Button
                colorPalette="ivy"
                disabled={!p || p.problems.length > 0}
                loading={draft.saving}
                onClick={() => void draft.save()}
              >
                Put this rule in force
              </Button>
              <Button variant="ghost" colorPalette="gray" onClick={draft.drop}>
                Drop the draft
              </Button>
            </HStack>
          </Stack>
        )}
      </Stack>
    </Panel>
  );
}

function Forecast() {
  const forecast = useQuery({
    queryKey: ['life', 'forecast'],
    queryFn: () => ask(api.GET('/api/v1/expiry/forecast', { params: { query: { weeks: 13 } } })),
  });
  if (!forecast.data) return <Trouble error={forecast.error} />;
  const weeks = forecast.data.items;
  const max = Math.max(1, ...weeks.map((w) => w.groups));
  const all = weeks.reduce((n, w) => n + w.groups, 0);
  return (
    <Panel title="Expiring in the next 13 weeks" side={<Text color="fg.muted">{plural(all, 'group')}</Text>}>
      <Stack as="ul" gap="1" listStyleType="none">
        {weeks.map((w) => (
          <HStack as="li" key={w.begins} fontSize="sm" gap="3">
            <Text w="6.5rem" color="fg.muted" flexShrink="0">
              {date(w.begins)}
            </Text>
            <Box flex="1">
              <Box h="3.5" w={`${(100 * w.groups) / max}%`} bg="ivy.solid" borderRadius="sm" />
            </Box>
            <Text w="2.5rem" textAlign="right">
              {w.groups}
            </Text>
          </HStack>
        ))}
      </Stack>
    </Panel>
  );
}

function Restorable() {
  const ended = useList({
    key: ['group', 'ended'],
    read: (_, cursor) =>
      ask(
        api.GET('/api/v1/groups', {
          params: { query: { state: ['lapsed', 'retired'], sort: 'name', limit: 50, cursor } },
        }),
      ),
  });
  if (!ended.loaded) return <Trouble error={ended.error} />;
  return (
    <Panel title="Can be restored" side={<Text color="fg.muted">{plural(ended.total, 'group')}</Text>}>
      {ended.rows.length === 0 ? (
        <Nothing title="No group has ended lately." />
      ) : (
        <Stack as="ul" gap="2" listStyleType="none">
          {ended.rows.map((g) => (
            <Box as="li" key={g.id}>
              <HStack justify="space-between">
                <Link to={`/groups/${g.address}/term`} style={{ fontWeight: 600 }}>
                  {g.name}
                </Link>
                <State state={g.state} />
              </HStack>
              <Text fontSize="sm" color="fg.muted">
                {g.term.restorable_until && `until ${date(g.term.restorable_until)}`}
              </Text>
            </Box>
          ))}
        </Stack>
      )}
      <More list={ended} />
    </Panel>
  );
}
