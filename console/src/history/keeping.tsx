import { Box, Button, Grid, Input, Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useWatch } from 'react-hook-form';
import { api, ask, type HistoryKeeping as Saved } from '../api/client';
import { date, plural } from '../lib/dates';
import { useDraft } from '../lib/use-draft';
import { useSettled } from '../lib/use-settled';
import { useMe } from '../session/me';
import { Choice, Moved, Panel, Saving, Trouble } from '../ui/parts';
import { Tags } from '../ui/tags';
import { toaster } from '../ui/toaster';

/** Keeping says for how long the history is kept and who gets its seals, and lets administrators change that. */
export function Keeping() {
  const [open, setOpen] = useState(false);
  const may = useMe().may.includes('change_history_keeping');
  const keeping = useQuery({
    queryKey: ['history', 'keeping'],
    queryFn: () => ask(api.GET('/api/v1/history-keeping')),
  });
  const k = keeping.data;
  if (!k) return <Trouble error={keeping.error} />;
  const long = k.months > 0 ? `Kept for ${plural(k.months, 'month')}` : 'Kept for good';
  const seals = k.seals_to.length > 0 ? `its seal is mailed each ${k.seals_every} to ${k.seals_to.join(', ')}` : '';
  return (
    <>
      <Text color="fg.muted">
        {long}
        {k.from && `, from ${date(k.from)} on`}
        {seals && `; ${seals}`}.
      </Text>
      {may && (
        <Button size="xs" variant="outline" colorPalette="gray" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? 'Leave it so' : 'Change that'}
        </Button>
      )}
      {open && (
        <Box flexBasis="100%">
          <Draft saved={k} done={() => setOpen(false)} />
        </Box>
      )}
    </>
  );
}

type Fields = Pick<Saved, 'months' | 'seals_to' | 'seals_every'>;

function Draft({ saved, done }: { saved: Saved; done: () => void }) {
  const { months, seals_to, seals_every } = saved;
  const draft = useDraft<Fields, Saved>({
    saved: { months, seals_to, seals_every },
    version: saved.version ?? 0,
    touches: ['history'],
    save: (body, tag) => ask(api.PUT('/api/v1/history-keeping', { body, params: { header: { 'If-Match': tag } } })),
    onSaved: () => {
      done();
      toaster.create({ type: 'success', title: 'How the history is kept is changed' });
    },
  });
  const v = useWatch({ control: draft.form.control }) as Fields;
  const asked = useSettled(JSON.stringify(v), 300);
  const preview = useQuery({
    queryKey: ['history', 'keeping', 'preview', asked],
    enabled: draft.form.formState.isDirty,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.POST('/api/v1/history-keeping/preview', { body: JSON.parse(asked) as Saved })),
  });
  const set = <F extends keyof Fields>(field: F, value: Fields[F]) =>
    draft.form.setValue(field, value as never, { shouldDirty: true });
  return (
    <Panel title="How the history is kept">
      <Stack gap="4" maxW="44rem">
        <Moved draft={draft} />
        <Grid templateColumns={{ base: '1fr', md: '14rem 1fr' }} gap="4">
          <Box as="label" fontSize="sm">
            <Text fontWeight="600" mb="1">
              For how many months; 0 for good
            </Text>
            <Input
              size="sm"
              type="number"
              min={0}
              max={600}
              value={v.months}
              onChange={(e) => set('months', Math.max(0, Math.trunc(e.target.valueAsNumber || 0)))}
            />
          </Box>
          <Choice
            label="Its last seal is mailed"
            value={v.seals_every}
            choices={[
              ['day', 'each day'],
              ['week', 'each week'],
              ['month', 'each month'],
            ]}
            onChange={(x) => set('seals_every', x as Fields['seals_every'])}
          />
        </Grid>
        <Tags
          label="To whom"
          placeholder="An address of the workspace, then Enter"
          help="Who keeps these letters can prove later that nothing before one was changed, even where the whole end was made anew."
          list={v.seals_to}
          onChange={(x) => set('seals_to', x)}
        />
        {draft.form.formState.isDirty && preview.data && <Text fontSize="sm">{preview.data.says}</Text>}
        <Trouble error={draft.error ?? (draft.form.formState.isDirty ? preview.error : null)} />
        <Saving draft={draft} label="Keep it so" />
      </Stack>
    </Panel>
  );
}
