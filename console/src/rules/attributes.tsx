import { Badge, Button, HStack, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { api, ask, type OwnAttribute } from '../api/client';
import { useChange } from '../lib/use-change';
import { useMe } from '../session/me';
import { useOwn } from '../shared/fields';
import { Loading, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';

const kinds: [OwnAttribute['kind'], string][] = [
  ['text', 'text'],
  ['number', 'whole number'],
  ['boolean', 'yes or no'],
  ['day', 'day'],
];

/** Attributes are what the organisation keeps of people of its own. */
export function Attributes() {
  const may = useMe().may.includes('change_attributes');
  const list = useOwn();
  const [name, setName] = useState('');
  const [label, setLabel] = useState('');
  const [kind, setKind] = useState<OwnAttribute['kind']>('text');
  const [seen, setSeen] = useState(false);
  const add = useChange(
    ['naming', 'person'],
    () => ask(api.PUT('/api/v1/attributes/{name}', { params: { path: { name } }, body: { label, kind, seen } })),
    {
      onSuccess: (a) => {
        setName('');
        setLabel('');
        toaster.create({ type: 'success', title: `The directory keeps ${a.label} from now on` });
      },
    },
  );
  return (
    <Panel title="Your own attributes of people">
      <Stack gap="3">
        <Text fontSize="sm" color="fg.muted">
          Beside title, department and the like. Rules of membership, filters, name patterns and imports know them.
        </Text>
        <Trouble error={list.error} retry={() => void list.refetch()} />
        {!list.data && !list.error && <Loading what="the attributes" />}
        {list.data?.items.length === 0 && <Text fontSize="sm">There is none yet.</Text>}
        <Stack as="ul" gap="2" listStyleType="none">
          {list.data?.items.map((a) => (
            <One key={a.name} attribute={a} may={may} />
          ))}
        </Stack>
        {may && (
          <Stack
            as="form"
            gap="2"
            onSubmit={(e) => {
              e.preventDefault();
              add.mutate();
            }}
          >
            <HStack wrap={{ base: 'wrap', md: 'nowrap' }}>
              <Input
                size="sm"
                aria-label="Name of the attribute"
                placeholder="shift"
                value={name}
                onChange={(e) => setName(e.target.value)}
              />
              <Input
                size="sm"
                aria-label="What people read"
                placeholder="Shift"
                value={label}
                onChange={(e) => setLabel(e.target.value)}
              />
              <NativeSelect.Root size="sm" w="9.5rem" flexShrink="0">
                <NativeSelect.Field
                  aria-label="Kind of the attribute"
                  value={kind}
                  onChange={(e) => setKind(e.target.value as OwnAttribute['kind'])}
                >
                  {kinds.map(([k, words]) => (
                    <option key={k} value={k}>
                      {words}
                    </option>
                  ))}
                </NativeSelect.Field>
                <NativeSelect.Indicator />
              </NativeSelect.Root>
            </HStack>
            <label style={{ fontSize: '0.9rem' }}>
              <input type="checkbox" checked={seen} onChange={(e) => setSeen(e.target.checked)} /> Colleagues see it of
              each other
            </label>
            <Trouble error={add.error} />
            <Button
              size="sm"
              type="submit"
              alignSelf="start"
              variant="outline"
              colorPalette="ivy"
              disabled={name.trim() === ''}
              loading={add.isPending}
            >
              Keep it
            </Button>
          </Stack>
        )}
      </Stack>
    </Panel>
  );
}

function One({ attribute: a, may }: { attribute: OwnAttribute; may: boolean }) {
  const params = { path: { name: a.name }, header: { 'If-Match': `"${a.version}"` } };
  const [says, setSays] = useState('');
  const look = useChange(
    [],
    () => ask(api.POST('/api/v1/attributes/{name}/removal/preview', { params: { path: { name: a.name } } })),
    { onSuccess: (p) => setSays(p.says) },
  );
  const remove = useChange(['naming', 'person'], () => ask(api.DELETE('/api/v1/attributes/{name}', { params })));
  return (
    <li>
      <HStack justify="space-between" align="start">
        <Text fontSize="sm">
          <b>{a.label}</b> <code>{a.name}</code> · {kinds.find(([k]) => k === a.kind)?.[1]}{' '}
          {a.seen && <Badge colorPalette="gray">seen by colleagues</Badge>}
        </Text>
        {may && !says && (
          <Button
            size="xs"
            variant="outline"
            colorPalette="gray"
            aria-label={`Delete ${a.label}`}
            loading={look.isPending}
            onClick={() => look.mutate()}
          >
            Delete
          </Button>
        )}
      </HStack>
      {says && (
        <HStack wrap="wrap">
          <Text fontSize="sm" className="warn">
            {says}
          </Text>
          <Button
            size="xs"
            variant="outline"
            colorPalette="red"
            loading={remove.isPending}
            onClick={() => remove.mutate()}
          >
            Delete it
          </Button>
          <Button size="xs" variant="ghost" colorPalette="gray" onClick={() => setSays('')}>
            Keep it
          </Button>
        </HStack>
      )}
      <Trouble error={look.error ?? remove.error} />
    </li>
  );
}
