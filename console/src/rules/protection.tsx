import { Box, Grid, Input, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useWatch } from 'react-hook-form';
import { api, ask, type Protection as Saved } from '../api/client';
import { useDraft } from '../lib/use-draft';
import { useMe } from '../session/me';
import { Choice, Loading, Moved, Panel, Saving, Trouble } from '../ui/parts';
import { Tags } from '../ui/tags';
import { toaster } from '../ui/toaster';

/** Protection is what protects the workspace from its own people and their programs. */
export function Protection() {
  const protection = useQuery({
    queryKey: ['naming', 'protection'],
    queryFn: () => ask(api.GET('/api/v1/protection')),
  });
  if (protection.error) return <Trouble error={protection.error} retry={() => void protection.refetch()} />;
  return protection.data ? <Draft saved={protection.data} /> : <Loading what="what protects the workspace" />;
}

const bounds = [
  [
    'In a day, who is no administrator',
    '',
    [
      ['groups_a_day', 'Groups made'],
      ['outsiders_a_day', 'Outsiders brought in'],
      ['letters_a_day', 'Letters caused'],
    ],
  ],
  [
    'Messages taken in an hour',
    'What is more has to try again. Mail of strangers to a group is counted by itself.',
    [
      ['messages_of_a_writer_an_hour', 'Of one writer'],
      ['messages_to_a_group_an_hour', 'To one group'],
    ],
  ],
] as const;

function Draft({ saved }: { saved: Saved }) {
  const may = useMe().may.includes('change_protection');
  const draft = useDraft<Saved, Saved>({
    saved: { ...saved, known_attributes: undefined, version: undefined },
    version: saved.version ?? 0,
    touches: ['naming', 'me'],
    save: (body, tag) => ask(api.PUT('/api/v1/protection', { body, params: { header: { 'If-Match': tag } } })),
    onSaved: () => toaster.create({ type: 'success', title: 'What protects the workspace is changed' }),
  });
  const v = useWatch({ control: draft.form.control }) as Saved;
  const set = <F extends keyof Saved>(field: F, value: Saved[F]) =>
    draft.form.setValue(field, value as never, { shouldDirty: true });
  return (
    <Panel title="Protection">
      <Stack gap="4">
        <Moved draft={draft} />
        <Choice
          label="Who has to have a second factor"
          value={v.second_factor}
          disabled={!may}
          choices={[
            ['nobody', 'Nobody: whoever wants one sets it up'],
            ['administrators', 'Administrators'],
            ['everybody', 'Everybody'],
          ]}
          onChange={(x) => set('second_factor', x as Saved['second_factor'])}
        />
        <Tags
          label="What colleagues see of each other, beside name and address"
          placeholder="An attribute, then Enter"
          help="By their names in the directory, such as title, department, locality, phoneNumbers, manager."
          list={v.shown_attributes}
          onChange={(x) => may && set('shown_attributes', x)}
        />
        {bounds.map(([title, help, fields]) => (
          <Box key={title}>
            <Text fontWeight="600" fontSize="sm">
              {title}
            </Text>
            <Grid templateColumns={{ base: '1fr', md: 'repeat(3, 1fr)' }} gap="3" mt="1">
              {fields.map(([f, label]) => (
                <Box as="label" key={f} fontSize="sm">
                  {label}
                  <Input
                    size="sm"
                    type="number"
                    min={0}
                    readOnly={!may}
                    value={v[f]}
                    onChange={(e) => set(f, Math.max(0, Math.trunc(e.target.valueAsNumber || 0)))}
                  />
                </Box>
              ))}
            </Grid>
            {help && (
              <Text fontSize="sm" color="fg.muted" mt="1">
                {help}
              </Text>
            )}
          </Box>
        ))}
        <Trouble error={draft.error} />
        {may && <Saving draft={draft} label="Protect it so" />}
      </Stack>
    </Panel>
  );
}
