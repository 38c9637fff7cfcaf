import { Box, Button, HStack, Input, Stack, Text, Textarea } from '@chakra-ui/react';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, ask, type Group } from '../api/client';
import { Choice, Fact, Panel, Trouble } from '../ui/parts';
import { useSettled } from '../ui/settled';
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

/** TraitBoxes switches on and off what a group does beyond passing mail on. */
export function TraitBoxes({ list, onChange }: { list: string[]; onChange: (list: string[]) => void }) {
  return (
    <HStack as="fieldset" wrap="wrap" gap="4" fontSize="sm" aria-label="What it does">
      {traits.map(([name, label, says]) => (
        <label key={name} title={says}>
          <input
            type="checkbox"
            checked={list.includes(name)}
            onChange={(e) => onChange(e.target.checked ? [...list, name] : list.filter((x) => x !== name))}
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

function Form({ group: g, onDone }: { group: Group; onDone: () => void }) {
  const navigate = useNavigate();
  const [name, setName] = useState(g.name);
  const [address, setAddress] = useState(g.address);
  const [text, setText] = useState(g.description);
  const [aliases, setAliases] = useState(g.aliases);
  const [does, setDoes] = useState(g.traits);
  const [language, setLanguage] = useState(g.language);
  const [delivery, setDelivery] = useState<string>(g.default_delivery);
  const [welcome, setWelcome] = useState(g.welcome);
  const settled = useSettled(address, 200);
  const proposal = useQuery({
    queryKey: ['proposal', g.address, settled],
    enabled: settled !== g.address,
    placeholderData: keepPreviousData,
    queryFn: () =>
      ask(api.GET('/api/v1/address-proposals', { params: { query: { name, address: settled, group: g.address } } })),
  });
  const save = useMutation({
    mutationFn: () =>
      ask(
        api.PATCH('/api/v1/groups/{ref}', {
          params: { path: { ref: g.id }, header: { 'If-Match': `"${g.version}"` } },
          body: {
            name,
            address,
            description: text,
            aliases,
            traits: does,
            language,
            default_delivery: delivery,
            welcome,
          },
        }),
      ),
    onSuccess: (n) => {
      onDone();
      if (n.address !== g.address) void navigate(`/groups/${n.address}`, { replace: true });
    },
  });
  const moves = address !== g.address;
  return (
    <Panel title="What it is called, and what it does">
      <Stack gap="3">
        <Box as="label" fontSize="sm">
          Name
          <Input aria-label="Name" name="group-name" value={name} onChange={(e) => setName(e.target.value)} />
        </Box>
        <Box as="label" fontSize="sm">
          Address
          <Input name="group-address" value={address} onChange={(e) => setAddress(e.target.value)} />
        </Box>
        <Text fontSize="sm" color="fg.muted" aria-live="polite">
          {moves
            ? proposal.data && proposal.data.status !== 'free'
              ? proposal.data.says
              : `The old address ${g.address} stays as an alias, so that nothing sent there is lost.`
            : 'A new name leaves the address as it is.'}
        </Text>
        <Tags label="Further addresses" placeholder="Old names, typing mistakes" list={aliases} onChange={setAliases} />
        <Textarea
          aria-label="Why it exists"
          rows={3}
          maxLength={2000}
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <TraitBoxes list={does} onChange={setDoes} />
        <HStack wrap="wrap" gap="4" align="start">
          <Choice label="Notices in" value={language} choices={languages} onChange={setLanguage} />
          <Choice
            label="New members get"
            value={delivery}
            choices={[
              ['each', 'each message'],
              ['none', 'no mail until they ask'],
            ]}
            onChange={setDelivery}
          />
        </HStack>
        <Box as="label" fontSize="sm">
          Said to new members
          <Textarea
            name="welcome"
            rows={2}
            maxLength={2000}
            value={welcome}
            onChange={(e) => setWelcome(e.target.value)}
          />
        </Box>
        <Trouble error={save.error} />
        <HStack>
          <Button size="sm" colorPalette="ivy" loading={save.isPending} onClick={() => save.mutate()}>
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
