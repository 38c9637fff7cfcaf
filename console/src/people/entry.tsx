import { Box, Button, HStack, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { type ReactNode, useState } from 'react';
import { type UseFormRegister, useWatch } from 'react-hook-form';
import { api, ask, type Person, type PersonDetails } from '../api/client';
import { date } from '../lib/dates';
import { useDraft } from '../lib/use-draft';
import { fieldLabel, fields } from '../shared/fields';
import { Fact, Moved, Panel, Trouble } from '../ui/parts';

/** Values are an entry of the directory in a form. Identifiers of attributes have no points. */
export type Values = { name: string; workspace_role: string; attributes: Record<string, string> };

/** blank is an entry with nothing filled in. A form knows its fields by it. */
export const blank: Values = {
  name: '',
  workspace_role: 'none',
  attributes: Object.fromEntries(fields.map(([f]) => [f, ''])),
};

/** roleOf is a role in the workspace out of a form. */
export const roleOf = (v: Values) => v.workspace_role as NonNullable<Person['workspace_role']> | 'none';

/** EntryFields are the fields of an entry. Those that are seldom filled in are shown when asked for. */
export function EntryFields(props: {
  register: UseFormRegister<Values>;
  filled: Record<string, string>;
  problem: (field: 'name' | 'workspace_role' | `attributes.${string}`) => string | undefined;
}) {
  const [all, setAll] = useState(false);
  const { register, problem } = props;
  const shown = fields.filter(([f], i) => all || i < 6 || f === 'locality' || props.filled[f]);
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
            <Fact key={k} name={fieldLabel(k)}>
              {v}
            </Fact>
          ))}
          {filled.length === 0 && <Text color="fg.muted">Nothing is filled in.</Text>}
          <Fact name="Here since">{date(p.created_at)}</Fact>
        </Stack>
      )}
    </Panel>
  );
}

function Form({ person: p, onDone }: { person: PersonDetails; onDone: () => void }) {
  const draft = useDraft<Values, PersonDetails>({
    saved: {
      name: p.name,
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
          body: { name: v.name, workspace_role: roleOf(v), attributes },
        }),
      );
    },
    onSaved: onDone,
  });
  const v = useWatch({ control: draft.form.control }) as Values;
  return (
    <Stack as="form" gap="2" onSubmit={(e) => void draft.save(e)}>
      <Moved draft={draft} />
      <EntryFields register={draft.register} filled={v.attributes} problem={draft.problem} />
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
