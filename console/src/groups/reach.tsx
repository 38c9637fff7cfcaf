import { Box, Button, Grid, HStack, Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useWatch } from 'react-hook-form';
import { api, ask, type Group, type PolicyPatch, type PolicySummary } from '../api/client';
import { useDraft } from '../lib/use-draft';
import { useSettled } from '../lib/use-settled';
import { asked, byPrivacy, Faults, patchOf, PolicyEditor, StandIns, type Values, valuesOf } from '../shared/policy';
import { BeginAgain } from './begin-again';
import { Rings } from '../shared/rings';
import { Loading, Moved, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';
import { useGroup } from './page';
import { Trying } from './trying';

export default function Reach() {
  const g = useGroup();
  const policy = useQuery({
    queryKey: ['group', g.id, 'policy', g.version],
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.GET('/api/v1/groups/{ref}/policy', { params: { path: { ref: g.id } } })),
  });
  if (!policy.data) return policy.error ? <Trouble error={policy.error} /> : <Loading what="its reach" />;
  return <Policy group={g} saved={policy.data} />;
}

const look = (g: Group, body: PolicyPatch) =>
  ask(api.POST('/api/v1/groups/{ref}/policy/preview', { params: { path: { ref: g.id } }, body }));

// A form takes a point in a name for a part of an object; the names of settings have points.
const inForm = (values: Values): Values =>
  Object.fromEntries(Object.entries(values).map(([k, v]) => [k.replace('.', '/'), v]));
const outOfForm = (values: Values): Values =>
  Object.fromEntries(Object.entries(values).map(([k, v]) => [k.replace('/', '.'), v]));

function Policy({ group: g, saved }: { group: Group; saved: PolicySummary }) {
  const may = (g.may?.includes('policy') ?? false) && !g.term.ended_at;
  const from = valuesOf(saved);
  const draft = useDraft<Values, Group>({
    saved: inForm(from),
    version: g.version,
    touches: ['group'],
    save: (values, tag) =>
      ask(
        api.PATCH('/api/v1/groups/{ref}/policy', {
          params: { path: { ref: g.id }, header: { 'If-Match': tag } },
          body: patchOf(saved.settings, outOfForm(values), from),
        }),
      ),
    onSaved: () => toaster.create({ type: 'success', title: `The reach of ${g.name} is changed` }),
  });
  const values = outOfForm(useWatch({ control: draft.form.control }) as Values);
  const patch = JSON.stringify(patchOf(saved.settings, values, from));
  const settled = useSettled(patch, 100);
  const preview = useQuery({
    queryKey: ['group', g.id, 'policy', 'preview', g.version, settled],
    enabled: draft.dirty && settled !== '{}',
    placeholderData: keepPreviousData,
    queryFn: () => look(g, JSON.parse(settled) as PolicyPatch),
  });
  const set = (name: string, value: string) =>
    draft.form.setValue(name.replace('.', '/'), value, { shouldDirty: true });
  // What a privacy fills in, the service says.
  const fill = (privacy: string) =>
    void look(g, { ...(JSON.parse(patch) as PolicyPatch), policy: {}, privacy: privacy as never }).then((p) => {
      for (const name of byPrivacy) {
        const value = p.policy?.settings.find((s) => s.name === name)?.value;
        if (value) set(name, value);
      }
    });
  const drafting = draft.dirty && settled !== '{}';
  const shown = (drafting ? preview.data?.policy : undefined) ?? saved;
  const effects = drafting ? (preview.data?.effects ?? []) : [];
  const impossible = (preview.data?.problems.length ?? 0) > 0;
  return (
    <Stack gap="5">
      <Grid
        templateColumns={{ base: 'minmax(0, 1fr)', lg: 'minmax(0, 1fr) minmax(0, 1fr)' }}
        gap="5"
        alignItems="start"
      >
        <Panel title="Who may do what">
          <PolicyEditor
            sentences={shown.sentences}
            settings={saved.settings}
            privacy={shown.privacy}
            values={values}
            was={from}
            onValue={set}
            onPrivacy={fill}
            disabled={!may}
          />
        </Panel>
        <Stack gap="5" position={{ lg: 'sticky' }} top="5">
          <Panel title="How far it reaches">
            <Rings settings={saved.settings} values={values} was={from} onValue={set} disabled={!may} />
          </Panel>
          {draft.dirty && (
            <Panel title="A draft, not saved yet">
              <Stack gap="3">
                <Moved draft={draft} />
                {effects.length === 0 && !preview.error && <Text color="fg.muted">This changes nothing.</Text>}
                {effects.map((e) => (
                  <Box key={e.field} fontSize="sm">
                    <Text fontWeight="600">
                      {e.field === 'waiting'
                        ? 'What waits here'
                        : `${asked(saved.settings, e.field)}: ${e.from} → ${e.to}`}
                    </Text>
                    <Text>{e.says}</Text>
                    {e.names && <Text color="fg.muted">Such as {e.names.join(', ')}.</Text>}
                  </Box>
                ))}
                {drafting &&
                  (preview.data?.sample ?? []).slice(0, 5).map((l, i) => (
                    <Text key={i} fontSize="sm" color="fg.muted">
                      {l.name || l.address}: {l.says}
                    </Text>
                  ))}
                <Trouble error={preview.error} />
                <Trouble error={draft.error} />
                <Faults contradictions={shown.contradictions} warnings={shown.warnings} />
              </Stack>
            </Panel>
          )}
        </Stack>
      </Grid>
      <Panel title="What people can do">
        <Stack gap="3">
          <Text>{shown.sentence}</Text>
          {!draft.dirty && <Faults contradictions={shown.contradictions} warnings={shown.warnings} />}
          <StandIns list={shown.stand_ins} columns={4} />
          {!may && (
            <Text color="fg.muted">
              {g.term.ended_at
                ? 'It has ended. Restore it to change its reach.'
                : 'Its owners and administrators can change this.'}
            </Text>
          )}
        </Stack>
      </Panel>
      <Trying
        group={g}
        draft={
          drafting && !impossible
            ? Object.entries(values)
                .filter(([name, v]) => v !== from[name])
                .map(([name, v]) => `${name}=${v}`)
                .join(' ')
            : ''
        }
      />
      {may && g.may?.includes('change') && !draft.dirty && <BeginAgain group={g} />}
      {draft.dirty && (
        <HStack
          position="sticky"
          bottom="0"
          bg="bg.panel"
          borderWidth="1px"
          borderColor="brass.border"
          borderRadius="lg"
          px="4"
          py="2.5"
          zIndex="1"
          wrap="wrap"
        >
          <Text flex="1" minW="12rem">
            <span className="warn">A draft.</span>{' '}
            {impossible ? 'Two of the choices take back each other.' : 'Nothing holds until it is saved.'}
          </Text>
          <Button
            size="sm"
            colorPalette="ivy"
            disabled={effects.length === 0 || impossible || settled !== patch}
            loading={draft.saving}
            onClick={() => void draft.save()}
          >
            Save this reach
          </Button>
          <Button size="sm" variant="ghost" colorPalette="gray" onClick={draft.drop}>
            Drop the draft
          </Button>
        </HStack>
      )}
    </Stack>
  );
}
