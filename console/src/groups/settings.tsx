import { Box, Button, HStack, Input, Stack, Text, Textarea } from '@chakra-ui/react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useWatch } from 'react-hook-form';
import { useNavigate } from 'react-router';
import { api, ask, type Group } from '../api/client';
import { useDraft } from '../lib/use-draft';
import { useSettled } from '../lib/use-settled';
import { Choice, Fact, Moved, Panel, Trouble } from '../ui/parts';
import { Tags } from '../ui/tags';

export const traits: [name: string, label: string, says: string][] = [
  ['archive', 'Archive', 'keeps what was written'],
  ['desk', 'Desk', 'posts are taken and assigned'],
  ['calendar', 'Calendar', 'has events of its own'],
  ['access', 'Access', 'counts where other systems decide who may enter'],
];

export const languages: [string, string][] = [
  ['en', 'English'],
  ['de', 'German'],
];

export const deliveries: [string, string][] = [
  ['each', 'each message'],
  ['none', 'no mail until they ask'],
];

/** TraitBoxes switches on and off what a group does beyond passing mail on. */
export function TraitBoxes<T extends string>({ list, onChange }: { list: T[]; onChange: (list: T[]) => void }) {
  return (
    <HStack as="fieldset" wrap="wrap" gap="4" fontSize="sm" aria-label="What it does">
      {traits.map(([name, label, says]) => (
        <label key={name} title={says}>
          <input
            type="checkbox"
            checked={list.includes(name as T)}
            onChange={(e) => onChange(e.target.checked ? [...list, name as T] : list.filter((x) => x !== name))}
          />{' '}
          {label}{' '}
          <Text as="span" color="fg.muted">
            {says}
          </Text>
        </label>
      ))}
    </HStack>
  );
}

/** Settings shows and changes what a group is called, where it is and what it does. */
export function Settings({ group: g }: { group: Group }) {
  const [open, setOpen] = useState(false);
  if (open) return <Form group={g} onDone={() => setOpen(false)} />;
  return (
    <Panel
      title="Why it exists"
      side={
        g.may?.includes('change') && (
          <Button size="xs" variant="outline" colorPalette="gray" onClick={() => setOpen(true)}>
            Change
          </Button>
        )
      }
    >
      <Stack gap="3">
        <Text {...(g.description ? {} : { color: 'fg.muted' })}>
          {g.description || 'Nobody has written that down yet.'}
        </Text>
        <Stack as="dl" gap="1">
          {g.aliases.length > 0 && <Fact name="Also at">{g.aliases.join(', ')}</Fact>}
          {g.traits.length > 0 && (
            <Fact name="Does">{g.traits.map((t) => traits.find(([n]) => n === t)?.[1] ?? t).join(', ')}</Fact>
          )}
          {g.language !== 'en' && <Fact name="Notices in">{languages.find(([t]) => t === g.language)?.[1]}</Fact>}
          {g.default_delivery === 'none' && <Fact name="New members">get no mail until they ask for it</Fact>}
        </Stack>
      </Stack>
    </Panel>
  );
}

type Fields = Pick<
  Group,
  'name' | 'address' | 'description' | 'aliases' | 'traits' | 'language' | 'default_delivery' | 'welcome'
>;

function Form({ group: g, onDone }: { group: Group; onDone: () => void }) {
  const navigate = useNavigate();
  const draft = useDraft<Fields, Group>({
    saved: {
      name: g.name,
      address: g.address,
      description: g.description,
      aliases: g.aliases,
      traits: g.traits,
      language: g.language,
      default_delivery: g.default_delivery,
      welcome: g.welcome,
    },
    version: g.version,
    touches: ['group'],
    save: (body, tag) =>
      ask(
        api.PATCH('/api/v1/groups/{ref}', {
          params: { path: { ref: g.id }, header: { 'If-Match': tag } },
          body,
        }),
      ),
    onSaved: (n) => {
      onDone();
      if (n.address !== g.address) void navigate(`/groups/${n.address}`, { replace: true });
    },
  });
  const { form, register } = draft;
  const v = useWatch({ control: form.control }) as Fields;
  const settled = useSettled(v.address, 200);
  const proposal = useQuery({
    queryKey: ['naming', 'proposal', g.id, settled],
    enabled: settled !== g.address,
    placeholderData: keepPreviousData,
    queryFn: () =>
      ask(
        api.GET('/api/v1/address-proposals', {
          params: { query: { name: v.name, address: settled, group: g.address } },
        }),
      ),
  });
  const says = (field: keyof Fields) =>
    draft.problem(field) && (
      <Text as="span" role="alert" className="warn">
        {draft.problem(field)}
      </Text>
    );
  return (
    <Panel title="What it is called, and what it does">
      <Stack as="form" gap="3" onSubmit={(e) => void draft.save(e)}>
        <Moved draft={draft} />
        <Box as="label" fontSize="sm">
          Name
          <Input aria-label="Name" {...register('name')} />
          {says('name')}
        </Box>
        <Box as="label" fontSize="sm">
          Address
          <Input {...register('address')} />
          {says('address')}
        </Box>
        <Text fontSize="sm" color="fg.muted" aria-live="polite">
          {v.address !== g.address
            ? proposal.data && proposal.data.status !== 'free'
              ? proposal.data.says
              : `The old address ${g.address} stays as an alias, so that nothing sent there is lost.`
            : 'A new name leaves the address as it is.'}
        </Text>
        <Tags
          label="Further addresses"
          placeholder="Old names, typing mistakes"
          list={v.aliases}
          onChange={(list) => form.setValue('aliases', list, { shouldDirty: true })}
        />
        <Textarea aria-label="Why it exists" rows={3} maxLength={2000} {...register('description')} />
        <TraitBoxes list={v.traits} onChange={(list) => form.setValue('traits', list, { shouldDirty: true })} />
        <HStack wrap="wrap" gap="4" align="start">
          <Choice
            label="Notices in"
            value={v.language}
            choices={languages}
            onChange={(x) => form.setValue('language', x as Fields['language'], { shouldDirty: true })}
          />
          <Choice
            label="New members get"
            value={v.default_delivery}
            choices={deliveries}
            onChange={(x) => form.setValue('default_delivery', x as Fields['default_delivery'], { shouldDirty: true })}
          />
        </HStack>
        <Box as="label" fontSize="sm">
          Said to new members
          <Textarea rows={2} maxLength={2000} {...register('welcome')} />
        </Box>
        <Trouble error={draft.error} />
        <HStack>
          <Button size="sm" type="submit" colorPalette="ivy" loading={draft.saving}>
            Save
          </Button>
          <Button size="sm" variant="ghost" colorPalette="gray" onClick={onDone}>
            Leave it
          </Button>
        </HStack>
      </Stack>
    </Panel>
  );
}
