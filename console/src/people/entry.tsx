import { Box, Button, HStack, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { type ReactNode, useState } from 'react';
import { type UseFormRegister, useWatch } from 'react-hook-form';
import { api, ask, type Person, type PersonDetails } from '../api/client';
import { date } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useDraft } from '../lib/use-draft';
import { fieldLabel, fields, useFields } from '../shared/fields';
import { Fact, Moved, Panel, Trouble } from '../ui/parts';

/** Values are an entry of the directory in a form. Identifiers of attributes have no points. */
export type Values = { name: string; address: string; workspace_role: string; attributes: Record<string, string> };

/** blank is an entry with nothing filled in. A form knows its fields by it. */
export const blank: Values = {
  name: '',
  address: '',
  workspace_role: 'none',
  attributes: Object.fromEntries(fields.map(([f]) => [f, ''])),
};

/** roleOf is a role in the workspace out of a form. */
export const roleOf = (v: Values) => v.workspace_role as NonNullable<Person['workspace_role']> | 'none';

/** EntryFields are the fields of an entry. Those that are seldom filled in are shown when asked for. */
export function EntryFields(props: {
  register: UseFormRegister<Values>;
  filled: Record<string, string>;
  addressed?: boolean; // the address can be changed here
  problem: (field: 'name' | 'address' | 'workspace_role' | `attributes.${string}`) => string | undefined;
}) {
  const [all, setAll] = useState(false);
  const { register, problem } = props;
  const known = useFields();
  const shown = known.filter(([f], i) => all || i < 6 || i >= fields.length || f === 'locality' || props.filled[f]);
  const row = (label: string, input: ReactNode, wrong: string | undefined) => (
    <Box as="label" key={label} display="grid" gridTemplateColumns="9rem 1fr" alignItems="center" fontSize="sm">
      <span>{label}</span>
      {input}
      {wrong && (
        <Text gridColumn="2" role="alert" className="warn">
          {wrong}
        </Text>
      )}
    </Box>
  );
  return (
    <Stack gap="1.5">
      {row('Name', <Input size="sm" {...register('name')} />, problem('name'))}
      {props.addressed && row('Address', <Input size="sm" {...register('address')} />, problem('address'))}
      {row(
        'In the workspace',
        <NativeSelect.Root size="sm">
          <NativeSelect.Field {...register('workspace_role')}>
            <option value="none">no role</option>
            <option value="administrator">administrator</option>
            <option value="auditor">auditor</option>
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>,
        problem('workspace_role'),
      )}
      {shown.map(([f, label]) =>
        row(label, <Input size="sm" {...register(`attributes.${f}`)} />, problem(`attributes.${f}`)),
      )}
      {!all && (
        <Button size="xs" variant="ghost" colorPalette="gray" alignSelf="start" onClick={() => setAll(true)}>
          All fields
        </Button>
      )}
    </Stack>
  );
}

/** Entry shows what the directory has of a person, and changes it. */
export function Entry({ person: p, may }: { person: PersonDetails; may: boolean }) {
  const [open, setOpen] = useState(false);
  const filled = Object.entries(p.attributes ?? {});
  const known = useFields();
  return (
    <Panel
      title="Entry in the directory"
      side={
        may &&
        !open && (
          <Button size="xs" variant="outline" colorPalette="gray" onClick={() => setOpen(true)}>
            Change
          </Button>
        )
      }
    >
      {open ? (
        <Form person={p} onDone={() => setOpen(false)} />
      ) : (
        <Stack as="dl" gap="1">
          {filled.map(([k, v]) => (
            <Fact key={k} name={known.find(([f]) => f === k)?.[1] ?? fieldLabel(k)}>
              {v}
            </Fact>
          ))}
          {filled.length === 0 && <Text color="fg.muted">Nothing is filled in.</Text>}
          <Fact name="Here since">{date(p.created_at)}</Fact>
          {p.former_addresses?.map((x) => (
            <Fact key={x} name="Address before">
              {x} {may && <Forget person={p} address={x} />}
            </Fact>
          ))}
        </Stack>
      )}
    </Panel>
  );
}

/** Forget ends that an address of before leads to somebody. */
function Forget({ person: p, address }: { person: PersonDetails; address: string }) {
  const forget = useChange(['person'], () =>
    ask(
      api.PATCH('/api/v1/people/{ref}', {
        params: { path: { ref: p.id }, header: { 'If-Match': `"${p.version}"` } },
        body: { former_addresses: p.former_addresses?.filter((x) => x !== address) ?? [] },
      }),
    ),
  );
  return (
    <>
      <Button
        size="2xs"
        variant="outline"
        colorPalette="gray"
        loading={forget.isPending}
        aria-label={`Set ${address} free`}
        onClick={() => forget.mutate()}
      >
        Set free
      </Button>
      <Trouble error={forget.error} />
    </>
  );
}

function Form({ person: p, onDone }: { person: PersonDetails; onDone: () => void }) {
  const draft = useDraft<Values, PersonDetails>({
    saved: {
      name: p.name,
      address: p.address,
      workspace_role: p.workspace_role ?? 'none',
      attributes: { ...blank.attributes, ...p.attributes },
    },
    version: p.version ?? 0,
    touches: ['person', 'group', 'member', 'rule', 'life'],
    save: (v, tag) => {
      const attributes = Object.fromEntries(
        Object.entries(v.attributes).filter(([f, value]) => value !== (p.attributes?.[f] ?? '')),
      );
      return ask(
        api.PATCH('/api/v1/people/{ref}', {
          params: { path: { ref: p.id }, header: { 'If-Match': tag } },
          body: {
            name: v.name,
            workspace_role: roleOf(v),
            attributes,
            ...(v.address.trim() === p.address ? {} : { address: v.address.trim() }),
          },
        }),
      );
    },
    onSaved: onDone,
  });
  const v = useWatch({ control: draft.form.control }) as Values;
  return (
    <Stack as="form" gap="2" onSubmit={(e) => void draft.save(e)}>
      <Moved draft={draft} />
      <EntryFields addressed register={draft.register} filled={v.attributes} problem={draft.problem} />
      {v.address.trim() !== p.address && (
        <Text fontSize="sm">
          They are the same person, in the same groups. {p.address} leads to them still: for mail, for signing in and
          for search. A letter to both addresses tells them.
        </Text>
      )}
      <Trouble error={draft.error} />
      <HStack>
        <Button size="sm" type="submit" colorPalette="ivy" loading={draft.saving}>
          Save
        </Button>
        <Button size="sm" variant="ghost" colorPalette="gray" onClick={onDone}>
          Leave it
        </Button>
      </HStack>
      <Text fontSize="sm" color="fg.muted">
        Groups with a rule take them in, or let them go, as soon as it is saved.
      </Text>
    </Stack>
  );
}
