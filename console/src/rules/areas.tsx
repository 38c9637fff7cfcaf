import { Box, Button, Field, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, ask, type Area, type Areas as Saved } from '../api/client';
import { plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useSettled } from '../lib/use-settled';
import { useMe } from '../session/me';
import { PeoplePicker } from '../shared/people-picker';
import { Loading, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';

type New = { name: string; filter: string; powers: Area['powers']; helpers: string[] };

const none: New = { name: '', filter: '', powers: [], helpers: [] };

const toNew = (a: Area): New => ({
  name: a.name,
  filter: a.filter,
  powers: a.powers,
  helpers: a.helpers.filter((h) => !h.departed).map((h) => h.address),
});

/** Areas are groups that are handed to helpers, and what they may do there. */
export function Areas() {
  const saved = useQuery({ queryKey: ['naming', 'areas'], queryFn: () => ask(api.GET('/api/v1/areas')) });
  if (saved.error) return <Trouble error={saved.error} retry={() => void saved.refetch()} />;
  return saved.data ? <List saved={saved.data} /> : <Loading what="the areas" />;
}

function List({ saved }: { saved: Saved }) {
  const may = useMe().may.includes('change_areas');
  const [draft, setDraft] = useState<{ was: string; area: New } | null>(null);
  const save = useChange<New[], Saved>(
    ['naming', 'group', 'me'],
    (areas) =>
      ask(api.PUT('/api/v1/areas', { body: { areas }, params: { header: { 'If-Match': `"${saved.version}"` } } })),
    {
      onSuccess: () => {
        setDraft(null);
        toaster.create({ type: 'success', title: 'The areas are set; their helpers are told' });
      },
      onError: (e) => toaster.create({ type: 'error', title: 'The areas stay as they were', description: e.message }),
    },
  );
  const others = (name: string) => saved.areas.filter((a) => a.name !== name).map(toNew);
  return (
    <Panel title="Helpers">
      <Stack gap="4">
        <Text fontSize="sm" color="fg.muted">
          Groups that are handed to somebody who is no administrator. Whoever helps finds them all, sees who is in them
          and reads their history; what else they may do is said for each area.
        </Text>
        {saved.areas.length === 0 && (
          <Text fontSize="sm">Nobody helps yet: administrators look after every group.</Text>
        )}
        <Stack as="ul" gap="3" listStyleType="none" fontSize="sm">
          {saved.areas.map((a) => (
            <Box as="li" key={a.name}>
              <HStack justify="space-between" align="start">
                <Box minW="0">
                  <Text>
                    <b>{a.name}</b>:{' '}
                    <Link to={`/groups?filter=${encodeURIComponent(a.filter)}`}>
                      <u>{plural(a.groups, 'group')}</u>
                    </Link>{' '}
                    where <code>{a.filter}</code>
                  </Text>
                  <Text>
                    {a.helpers.map((h) => h.name + (h.departed ? ' (has left)' : '')).join(', ')}{' '}
                    {a.powers.length > 0 ? `may change: ${a.powers.join(', ')}` : 'may look'}
                  </Text>
                  <Text color="fg.muted">Set by {a.set_by}.</Text>
                </Box>
                {may && (
                  <HStack gap="1">
                    <Button
                      size="2xs"
                      variant="ghost"
                      colorPalette="gray"
                      aria-label={`Change the area ${a.name}`}
                      onClick={() => setDraft({ was: a.name, area: toNew(a) })}
                    >
                      Change
                    </Button>
                    <Button
                      size="2xs"
                      variant="ghost"
                      colorPalette="gray"
                      aria-label={`End the area ${a.name}`}
                      loading={save.isPending}
                      onClick={() => save.mutate(others(a.name))}
                    >
                      End
                    </Button>
                  </HStack>
                )}
              </HStack>
            </Box>
          ))}
        </Stack>
        {may && !draft && (
          <Button
            size="sm"
            variant="outline"
            colorPalette="gray"
            alignSelf="start"
            onClick={() => setDraft({ was: '', area: none })}
          >
            Hand groups to somebody
          </Button>
        )}
        {draft && (
          <Draft
            saved={saved}
            area={draft.area}
            others={others(draft.was)}
            saving={save.isPending}
            onArea={(area) => setDraft({ ...draft, area })}
            onSave={(all) => save.mutate(all)}
            onClose={() => setDraft(null)}
          />
        )}
      </Stack>
    </Panel>
  );
}

function Draft(props: {
  saved: Saved;
  area: New;
  others: New[];
  saving: boolean;
  onArea: (a: New) => void;
  onSave: (all: New[]) => void;
  onClose: () => void;
}) {
  const { area: a, onArea } = props;
  const all = [...props.others, a];
  const asked = useSettled(JSON.stringify(all), 250);
  const whole = a.name.trim() !== '' && a.filter.trim() !== '' && a.helpers.length > 0;
  const look = useQuery({
    queryKey: ['naming', 'areas', 'look', props.saved.version, asked],
    enabled: whole,
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.POST('/api/v1/areas/preview', { body: { areas: JSON.parse(asked) as New[] } })),
  });
  return (
    <Stack gap="3" borderTopWidth="1px" pt="3">
      <Field.Root>
        <Field.Label>What the area is called</Field.Label>
        <Input
          size="sm"
          name="area-name"
          maxLength={100}
          placeholder="Crew"
          value={a.name}
          onChange={(e) => onArea({ ...a, name: e.target.value })}
        />
      </Field.Root>
      <Field.Root>
        <Field.Label>Which groups</Field.Label>
        <Input
          size="sm"
          name="area-filter"
          placeholder={'domain eq "crew.merrowline.example"'}
          value={a.filter}
          onChange={(e) => onArea({ ...a, filter: e.target.value })}
        />
        <Field.HelperText>A filter over domain, starting_point, address, name, language and traits.</Field.HelperText>
      </Field.Root>
      <Box>
        <PeoplePicker
          label="Who helps"
          placeholder="Name or address"
          taken={a.helpers}
          onPick={(address) => onArea({ ...a, helpers: [...a.helpers, address] })}
        />
        <HStack wrap="wrap" mt="2">
          {a.helpers.map((address) => (
            <Button
              key={address}
              size="2xs"
              variant="subtle"
              colorPalette="gray"
              title="Take out"
              onClick={() => onArea({ ...a, helpers: a.helpers.filter((x) => x !== address) })}
            >
              {address} ×
            </Button>
          ))}
        </HStack>
      </Box>
      <Stack as="fieldset" gap="1" fontSize="sm" aria-label="What they may do">
        {props.saved.known_powers.map((p) => (
          <label key={p.name}>
            <input
              type="checkbox"
              checked={a.powers.includes(p.name as Area['powers'][number])}
              onChange={(e) =>
                onArea({
                  ...a,
                  powers: e.target.checked
                    ? [...a.powers, p.name as Area['powers'][number]]
                    : a.powers.filter((x) => x !== p.name),
                })
              }
            />{' '}
            {p.says}
          </label>
        ))}
      </Stack>
      {whole && <Trouble error={look.error} />}
      {whole && look.data && !look.error && (
        <Text fontSize="sm" aria-live="polite">
          {look.data.says}
        </Text>
      )}
      <HStack>
        <Button
          size="sm"
          colorPalette="ivy"
          disabled={!whole || !look.data || !!look.error || asked !== JSON.stringify(all)}
          loading={props.saving}
          onClick={() => props.onSave(all)}
        >
          Hand them over
        </Button>
        <Button size="sm" variant="ghost" colorPalette="gray" onClick={props.onClose}>
          Never mind
        </Button>
      </HStack>
    </Stack>
  );
}
