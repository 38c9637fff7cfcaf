import { Box, Button, Grid, HStack, Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask, type Group, type PolicyPatch } from '../api/client';
import { Loading, Panel, Trouble } from '../ui/parts';
import { Faults, PolicyEditor, StandIns } from '../ui/policy';
import { useSettled } from '../ui/settled';
import { toaster } from '../ui/toaster';
import { labels, questions } from '../ui/words';

export function Reach({ group: g }: { group: Group }) {
  const [draft, setDraft] = useState<PolicyPatch>({});
  const may = (g.may?.includes('policy') ?? false) && !g.term.ended_at;
  const saved = useQuery({
    queryKey: ['policy', g.address, g.version],
    queryFn: () => ask(api.GET('/api/v1/groups/{ref}/policy', { params: { path: { ref: g.address } } })),
  });
  const settled = useSettled(draft, 100);
  const drafting = Object.keys(draft).length > 0;
  const effect = useQuery({
    queryKey: ['effect', g.address, g.version, settled],
    enabled: drafting,
    placeholderData: keepPreviousData,
    queryFn: () =>
      ask(api.POST('/api/v1/groups/{ref}/policy/effect', { params: { path: { ref: g.address } }, body: settled })),
  });
  const save = useMutation({
    mutationFn: () =>
      ask(
        api.PATCH('/api/v1/groups/{ref}/policy', {
          params: { path: { ref: g.address }, header: { 'If-Match': `"${g.version}"` } },
          body: draft,
        }),
      ),
    onSuccess: () => toaster.create({ type: 'success', title: `The reach of ${g.name} is changed` }),
  });
  if (!saved.data) return saved.error ? <Trouble error={saved.error} /> : <Loading what="its reach" />;
  const picture = drafting && effect.data ? effect.data.picture : saved.data;
  const shifts = drafting ? (effect.data?.shifts ?? []) : [];
  return (
    <Grid
      templateColumns={{ base: 'minmax(0, 1fr)', lg: 'minmax(0, 2fr) minmax(19rem, 1fr)' }}
      gap="5"
      alignItems="start"
    >
      <Panel title="Who may do what">
        <PolicyEditor saved={saved.data} answered={picture} draft={draft} onDraft={setDraft} disabled={!may} />
      </Panel>
      <Stack gap="5" position={{ lg: 'sticky' }} top="5">
        {drafting && (
          <Panel title="A draft, not saved yet">
            <Stack gap="3">
              {shifts.length === 0 && !effect.error && <Text color="fg.muted">This changes nothing.</Text>}
              {shifts.map((s) => (
                <Box key={s.field} fontSize="sm">
                  <Text fontWeight="600">
                    {questions[s.field] ?? labels[s.field] ?? s.field}: {s.from} → {s.to}
                  </Text>
                  <Text>{s.says}</Text>
                </Box>
              ))}
              <Trouble error={effect.error} />
              <Trouble error={save.error} />
              <HStack>
                <Button
                  size="sm"
                  colorPalette="ivy"
                  disabled={
                    shifts.length === 0 || (effect.data?.picture.contradictions.length ?? 0) > 0 || settled !== draft
                  }
                  loading={save.isPending}
                  onClick={() => save.mutate()}
                >
                  Save this reach
                </Button>
                <Button size="sm" variant="ghost" colorPalette="gray" onClick={() => setDraft({})}>
                  Drop the draft
                </Button>
              </HStack>
            </Stack>
          </Panel>
        )}
        <Panel title="What people can do">
          <Stack gap="3">
            <Text>{picture.sentence}</Text>
            <Faults contradictions={picture.contradictions} warnings={picture.warnings} />
            <StandIns list={picture.stand_ins} />
            {!may && (
              <Text color="fg.muted">
                {g.term.ended_at
                  ? 'It has ended. Restore it to change its reach.'
                  : 'Its owners and administrators can change this.'}
              </Text>
            )}
          </Stack>
        </Panel>
      </Stack>
    </Grid>
  );
}
