import { Box, Button, Field, Grid, Heading, HStack, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, ask, type Expiry, Refusal } from '../api/client';
import { useMe } from '../session/me';
import { date, plural } from '../ui/dates';
import { Loading, Nothing, Panel, State, Trouble } from '../ui/parts';
import { useSettled } from '../ui/settled';
import { toaster } from '../ui/toaster';

export default function Care() {
  const expiry = useQuery({ queryKey: ['expiry'], queryFn: () => ask(api.GET('/api/v1/expiry')) });
  return (
    <Box p={{ base: 3, md: 5 }} maxW="80rem" mx="auto">
      <Heading as="h1" size="2xl" mb="4">
        Care
      </Heading>
      <Grid templateColumns={{ base: 'minmax(0, 1fr)', lg: '3fr 2fr' }} gap="5" alignItems="start">
        {expiry.data ? (
          <Rule key={expiry.data.version} saved={expiry.data} />
        ) : expiry.error ? (
          <Trouble error={expiry.error} />
        ) : (
          <Loading what="the rule" />
        )}
        <Stack gap="5">
          <Forecast />
          <Restorable />
        </Stack>
      </Grid>
    </Box>
  );
}

type Form = { term: string; scope: string; notices: string; caretaker: string; zone: string };

const number = (s: string) => (/^\d+$/.test(s.trim()) ? Number(s.trim()) : Number.NaN);

function Rule({ saved }: { saved: Expiry }) {
  const me = useMe();
  const first: Form = {
    term: String(saved.term_days),
    scope: saved.scope,
    notices: saved.notices.join(', '),
    caretaker: saved.caretaker,
    zone: saved.time_zone,
  };
  const [form, setForm] = useState(first);
  const set = (part: Partial<Form>) => setForm((f) => ({ ...f, ...part }));
  const changed = JSON.stringify(form) !== JSON.stringify(first);
  const notices = form.notices
    .split(/[\s,]+/)
    .filter(Boolean)
    .map(number);
  const unreadable = Number.isNaN(number(form.term))
    ? 'The term has to be a number of days.'
    : notices.some(Number.isNaN)
      ? 'The notice days have to be numbers, such as 30, 15, 1.'
      : '';
  const body: Expiry = {
    term_days: number(form.term),
    scope: form.scope,
    notices,
    caretaker: form.caretaker.trim(),
    time_zone: form.zone.trim(),
  };
  const asked = JSON.stringify(body);
  const settled = useSettled(asked, 200);
  const may = me.workspace_role === 'administrator';
  const effect = useQuery({
    queryKey: ['expiry-effect', settled],
    enabled: changed && may && unreadable === '' && settled === asked,
    queryFn: () => ask(api.POST('/api/v1/expiry/effect', { body: JSON.parse(settled) as Expiry })),
  });
  const save = useMutation({
    mutationFn: () =>
      ask(api.PUT('/api/v1/expiry', { params: { header: { 'If-Match': `"${saved.version}"` } }, body })),
    onSuccess: () => toaster.create({ type: 'success', title: 'The rule is in force' }),
  });
  const problem = save.error ?? (changed ? effect.error : null);
  const about = (f: string) => (problem instanceof Refusal ? problem.about(f) : undefined);
  return (
    <Panel title="How long groups live">
      <Stack gap="4">
        <HStack gap="4" align="start" wrap="wrap">
          <Field.Root w="10rem" invalid={!!about('term_days')}>
            <Field.Label>Term in days</Field.Label>
            <Input
              name="term"
              inputMode="numeric"
              value={form.term}
              disabled={!may}
              onChange={(e) => set({ term: e.target.value })}
            />
            <Field.HelperText>0: groups never expire</Field.HelperText>
          </Field.Root>
          <Field.Root w="12rem">
            <Field.Label>Applies to</Field.Label>
            <NativeSelect.Root disabled={!may}>
              <NativeSelect.Field name="scope" value={form.scope} onChange={(e) => set({ scope: e.target.value })}>
                <option value="all">all groups</option>
                <option value="chosen">chosen groups</option>
                <option value="none">no groups</option>
              </NativeSelect.Field>
              <NativeSelect.Indicator />
            </NativeSelect.Root>
          </Field.Root>
          <Field.Root w="12rem" invalid={!!about('notices')}>
            <Field.Label>Notices, days before</Field.Label>
            <Input
              name="notices"
              value={form.notices}
              disabled={!may}
              onChange={(e) => set({ notices: e.target.value })}
            />
          </Field.Root>
          <Field.Root w="20rem" invalid={!!about('caretaker')}>
            <Field.Label>Caretaker</Field.Label>
            <Input
              name="caretaker"
              value={form.caretaker}
              disabled={!may}
              onChange={(e) => set({ caretaker: e.target.value })}
            />
            <Field.HelperText>Gets the notices of groups that nobody owns.</Field.HelperText>
          </Field.Root>
          <Field.Root w="14rem" invalid={!!about('time_zone')}>
            <Field.Label>Time zone</Field.Label>
            <Input name="zone" value={form.zone} disabled={!may} onChange={(e) => set({ zone: e.target.value })} />
            <Field.HelperText>Days begin at its midnight.</Field.HelperText>
          </Field.Root>
        </HStack>
        {changed && (
          <Stack gap="3" borderTopWidth="1px" pt="4" aria-live="polite">
            {unreadable ? <Trouble error={unreadable} /> : <Trouble error={problem} />}
            {effect.data && !unreadable && !effect.error && (
              <>
                <Text fontSize="lg">{effect.data.says}</Text>
                {effect.data.ownerless > 0 && (
                  <Text className="warn">
                    {plural(effect.data.ownerless, 'group has', 'groups have')} no owner:{' '}
                    {form.caretaker || 'the administrators'} will be told.
                  </Text>
                )}
                {effect.data.sample.length > 0 && (
                  <table className="list">
                    <thead>
                      <tr>
                        <th scope="col">Group</th>
                        <th scope="col">Expires now</th>
                        <th scope="col">Would expire</th>
                      </tr>
                    </thead>
                    <tbody>
                      {effect.data.sample.map((m) => (
                        <tr key={m.address}>
                          <td>{m.name}</td>
                          <td>{m.from ? date(m.from) : 'never'}</td>
                          <td>{m.to ? date(m.to) : 'never'}</td>
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
                disabled={unreadable !== '' || !effect.data}
                loading={save.isPending}
                onClick={() => save.mutate()}
              >
                Put this rule in force
              </Button>
              <Button variant="ghost" colorPalette="gray" onClick={() => setForm(first)}>
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
    queryKey: ['forecast'],
    queryFn: () => ask(api.GET('/api/v1/expiry/forecast', { params: { query: { weeks: 13 } } })),
  });
  if (!forecast.data) return <Trouble error={forecast.error} />;
  const most = Math.max(1, ...forecast.data.map((w) => w.groups));
  const all = forecast.data.reduce((n, w) => n + w.groups, 0);
  return (
    <Panel title="Expiring in the next 13 weeks" side={<Text color="fg.muted">{plural(all, 'group')}</Text>}>
      <Stack as="ul" gap="1" listStyleType="none">
        {forecast.data.map((w) => (
          <HStack as="li" key={w.begins} fontSize="sm" gap="3">
            <Text w="6.5rem" color="fg.muted" flexShrink="0">
              {date(w.begins)}
            </Text>
            <Box flex="1">
              <Box h="3.5" w={`${(100 * w.groups) / most}%`} bg="ivy.solid" borderRadius="sm" />
            </Box>
            <Text w="2rem" textAlign="right">
              {w.groups}
            </Text>
          </HStack>
        ))}
      </Stack>
    </Panel>
  );
}

function Restorable() {
  const ended = useQuery({
    queryKey: ['ended'],
    queryFn: () =>
      ask(api.GET('/api/v1/groups', { params: { query: { state: ['lapsed', 'retired'], sort: 'name', limit: 50 } } })),
  });
  if (!ended.data) return <Trouble error={ended.error} />;
  return (
    <Panel title="Can be restored" side={<Text color="fg.muted">{plural(ended.data.total, 'group')}</Text>}>
      {ended.data.items.length === 0 ? (
        <Nothing title="No group has ended lately." />
      ) : (
        <Stack as="ul" gap="2" listStyleType="none">
          {ended.data.items.map((g) => (
            <Box as="li" key={g.id}>
              <HStack justify="space-between">
                <Link to={`/groups/${g.address}/term`} style={{ fontWeight: 600 }}>
                  {g.name}
                </Link>
                <State state={g.state} />
              </HStack>
              <Text fontSize="sm" color="fg.muted">
                {g.term.restorable_till && `until ${date(g.term.restorable_till)}`}
              </Text>
            </Box>
          ))}
        </Stack>
      )}
    </Panel>
  );
}
