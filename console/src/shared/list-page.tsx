import { Box, Button, Flex, Heading, HStack, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { Columns3, Download, ListFilter, PencilLine, X } from 'lucide-react';
import { type ReactNode, useState } from 'react';
import { api, ask, Refusal } from '../api/client';
import { type Attribute, inWords, join, operators, parts, write } from '../lib/filter';
import { RowHeight, type Rows } from '../ui/virtual-table';
import { ExpressionField } from './expression';
import { Views } from './views';

export type ListName = 'groups' | 'people' | 'history';

/** What a page of a list needs of useList. */
export type Filtering = {
  q: string;
  setQ: (q: string) => void;
  error: Error | null;
  note?: string | undefined;
  values: (filter: string) => string[];
  set: (filter: string, value: string) => void;
  setAll: (values: Record<string, string>) => void;
};

/** useAttributes is what a filter of a list can ask about. */
export function useAttributes(list: ListName): Attribute[] {
  const found = useQuery({
    queryKey: ['me', 'filter', list],
    staleTime: Infinity,
    queryFn: () => ask(api.GET('/api/v1/filters/{list}', { params: { path: { list } } })),
  });
  return (found.data?.items as Attribute[] | undefined) ?? [];
}

/** ListPage is the frame of every long list: what it is, a search, a filter, views, columns, an export. */
export function ListPage(props: {
  name: ListName;
  title: string;
  count: string;
  search?: string; // the placeholder of the search, where the list has one
  list: Filtering;
  side?: ReactNode; // buttons beside the title
  quick?: ReactNode; // beside the search
  columns?: { chosen: string[]; all: { key: string; label: string }[]; onChange: (chosen: string[]) => void };
  rows?: [Rows, (rows: Rows) => void];
  exported: Record<string, string | string[]>; // what of the list is exported
  children: ReactNode;
}) {
  const { list, name } = props;
  const attributes = useAttributes(name);
  const filter = list.values('filter')[0] ?? '';
  const [chosen, setOpen] = useState<'' | 'add' | 'text' | 'columns' | 'export'>('');
  const toggle = (what: typeof open) => setOpen(open === what ? '' : what);
  const setFilter = (text: string) => list.set('filter', text);
  const all = parts(filter);
  const wrong = list.error instanceof Refusal ? list.error.problems.find((p) => p.field === 'filter') : undefined;
  const open = wrong ? 'text' : chosen; // where it is mended
  return (
    <Flex direction="column" h="full" p={{ base: 3, md: 5 }} gap="3">
      <HStack justify="space-between" wrap="wrap">
        <HStack align="baseline" gap="3">
          <Heading as="h1" size="2xl">
            {props.title}
          </Heading>
          <Text color="fg.muted" aria-live="polite">
            {props.count}
          </Text>
        </HStack>
        <HStack>{props.side}</HStack>
      </HStack>
      <HStack wrap="wrap" gap="2">
        {props.search && (
          <Input
            type="search"
            aria-label={`Search ${name}`}
            placeholder={props.search}
            size="sm"
            maxW="19rem"
            bg="bg.panel"
            value={list.q}
            onChange={(e) => list.setQ(e.target.value)}
          />
        )}
        {props.quick}
        <Tool
          label={all.length ? 'And' : 'Filter'}
          icon={<ListFilter size={14} />}
          on={open === 'add'}
          onClick={() => toggle('add')}
        />
        <Tool label="Write it" icon={<PencilLine size={14} />} on={open === 'text'} onClick={() => toggle('text')} />
        <HStack ml="auto" gap="2" wrap="wrap">
          <Views name={name} list={list} columns={props.columns?.chosen ?? []} onColumns={props.columns?.onChange} />
          {props.columns && (
            <Tool
              label="Columns"
              icon={<Columns3 size={14} />}
              on={open === 'columns'}
              onClick={() => toggle('columns')}
            />
          )}
          <Tool label="Export" icon={<Download size={14} />} on={open === 'export'} onClick={() => toggle('export')} />
          {props.rows && <RowHeight rows={props.rows[0]} onRows={props.rows[1]} />}
        </HStack>
      </HStack>
      {(all.length > 0 || list.note) && (
        <HStack wrap="wrap" gap="1.5" role="group" aria-label="Filter">
          {all.map((p, i) => (
            <Chip
              key={i}
              words={inWords(p, attributes)}
              text={p}
              onDrop={() => setFilter(join(all.filter((_, j) => j !== i)))}
            />
          ))}
          {list.note && (
            <Text fontSize="xs" color="fg.muted">
              {list.note}
            </Text>
          )}
        </HStack>
      )}
      {open === 'add' && (
        <AddPart
          attributes={attributes}
          onAdd={(p) => {
            setFilter(join([...all, p]));
            setOpen('');
          }}
        />
      )}
      {open === 'text' && <WriteFilter key={filter} name={name} filter={filter} wrong={wrong} onWrite={setFilter} />}
      {open === 'columns' && props.columns && <ChooseColumns {...props.columns} />}
      {open === 'export' && <Exports name={name} query={props.exported} />}
      {!wrong && props.children}
    </Flex>
  );
}

function Tool(props: { label: string; icon: ReactNode; on: boolean; onClick: () => void }) {
  return (
    <Button
      size="xs"
      variant={props.on ? 'subtle' : 'outline'}
      colorPalette="gray"
      aria-expanded={props.on}
      onClick={props.onClick}
    >
      {props.icon} {props.label}
    </Button>
  );
}

/** Chip is a part of the filter, in words, that can be taken away. */
function Chip(props: { words: string; text: string; onDrop: () => void }) {
  return (
    <Button
      size="xs"
      variant="subtle"
      colorPalette="ivy"
      maxW="26rem"
      title={props.text}
      aria-label={`Take away: ${props.words}`}
      onClick={props.onDrop}
    >
      <Text as="span" truncate>
        {props.words}
      </Text>
      <X size={12} />
    </Button>
  );
}

/** AddPart asks for one more comparison. */
function AddPart(props: { attributes: Attribute[]; onAdd: (part: string) => void }) {
  const [name, setName] = useState('');
  const a = props.attributes.find((x) => x.name === name) ?? props.attributes[0];
  const [chosen, setOperator] = useState('');
  const [value, setValue] = useState('');
  if (!a) return null;
  const offered = operators(a);
  const operator = offered.some(([o]) => o === chosen) ? chosen : (offered[0]?.[0] ?? 'eq');
  const choices = a.kind === 'boolean' ? ['true', 'false'] : a.choices;
  const given = choices ? (choices.includes(value) ? value : (choices[0] ?? '')) : value.trim();
  const bare = operator === 'pr' || operator === 'absent';
  return (
    <Box
      as="form"
      bg="bg.panel"
      borderWidth="1px"
      borderRadius="lg"
      p="3"
      onSubmit={(e) => {
        e.preventDefault();
        if (bare || given !== '') props.onAdd(write(a, operator, given));
      }}
    >
      <HStack wrap="wrap" gap="2">
        <Select
          label="What"
          value={a.name}
          onChange={setName}
          options={props.attributes.map((x) => [x.name, x.label])}
          width="17rem"
        />
        <Select label="How" value={operator} onChange={setOperator} options={offered} width="11rem" />
        {!bare &&
          (choices ? (
            <Select
              label="Compared with"
              value={given}
              onChange={setValue}
              options={choices.map((c) => [c, c === 'true' ? 'yes' : c === 'false' ? 'no' : c])}
              width="12rem"
            />
          ) : (
            <Input
              aria-label="Compared with"
              size="sm"
              w="14rem"
              bg="bg.panel"
              autoFocus
              type={a.kind === 'number' ? 'number' : a.kind === 'day' || a.kind === 'moment' ? 'date' : 'text'}
              value={value}
              onChange={(e) => setValue(e.target.value)}
            />
          ))}
        <Button type="submit" size="sm" colorPalette="ivy">
          Add
        </Button>
      </HStack>
    </Box>
  );
}

function Select(props: {
  label: string;
  value: string;
  options: readonly (readonly [string, string])[];
  onChange: (value: string) => void;
  width: string;
}) {
  return (
    <NativeSelect.Root size="sm" w={props.width}>
      <NativeSelect.Field aria-label={props.label} value={props.value} onChange={(e) => props.onChange(e.target.value)}>
        {props.options.map(([value, says]) => (
          <option key={value} value={value}>
            {says}
          </option>
        ))}
      </NativeSelect.Field>
      <NativeSelect.Indicator />
    </NativeSelect.Root>
  );
}

/** WriteFilter is the filter as text, for who can write it. */
function WriteFilter(props: {
  name: ListName;
  filter: string;
  wrong: { at?: number; says: string } | undefined;
  onWrite: (filter: string) => void;
}) {
  const [text, setText] = useState(props.filter);
  const asked = text === props.filter;
  return (
    <Stack bg="bg.panel" borderWidth="1px" borderRadius="lg" p="3" gap="2">
      <ExpressionField
        label="Filter as text"
        list={props.name}
        rows={2}
        placeholder={
          {
            groups: 'owners eq 0 and post eq "anyone"',
            people: 'department eq "Deck"',
            history: 'kind eq "people.add"',
          }[props.name]
        }
        value={text}
        onChange={setText}
        onEnter={() => props.onWrite(text.trim())}
        wrong={asked && props.wrong ? { at: props.wrong.at ?? 0, says: props.wrong.says } : undefined}
      />
      <HStack>
        <Button size="xs" colorPalette="ivy" disabled={asked} onClick={() => props.onWrite(text.trim())}>
          Use it
        </Button>
        {props.filter && (
          <Button size="xs" variant="ghost" colorPalette="gray" onClick={() => props.onWrite('')}>
            No filter
          </Button>
        )}
      </HStack>
    </Stack>
  );
}

/** ChooseColumns chooses which columns a list has, and in which order. */
function ChooseColumns(props: {
  chosen: string[];
  all: { key: string; label: string }[];
  onChange: (chosen: string[]) => void;
}) {
  const { chosen, onChange } = props;
  const move = (key: string, by: number) => {
    const next = chosen.filter((k) => k !== key);
    next.splice(Math.max(0, chosen.indexOf(key) + by), 0, key);
    onChange(next);
  };
  const label = (key: string) => props.all.find((c) => c.key === key)?.label ?? key;
  return (
    <Stack bg="bg.panel" borderWidth="1px" borderRadius="lg" p="3" gap="3" fontSize="sm">
      <HStack wrap="wrap" gap="2" role="group" aria-label="Columns that are shown, in their order">
        {chosen.map((key, i) => (
          <HStack key={key} borderWidth="1px" borderRadius="md" px="2" py="0.5" gap="1">
            <Text>{label(key)}</Text>
            <button
              type="button"
              className="in-row"
              disabled={i === 0}
              aria-label={`${label(key)} to the left`}
              onClick={() => move(key, -1)}
            >
              ←
            </button>
            <button
              type="button"
              className="in-row"
              disabled={i === chosen.length - 1}
              aria-label={`${label(key)} to the right`}
              onClick={() => move(key, 1)}
            >
              →
            </button>
            {chosen.length > 1 && (
              <button
                type="button"
                className="in-row"
                aria-label={`Without ${label(key)}`}
                onClick={() => onChange(chosen.filter((k) => k !== key))}
              >
                ×
              </button>
            )}
          </HStack>
        ))}
      </HStack>
      <HStack wrap="wrap" gap="1">
        <Text color="fg.muted">Add:</Text>
        {props.all
          .filter((c) => !chosen.includes(c.key))
          .map((c) => (
            <Button
              key={c.key}
              size="2xs"
              variant="outline"
              colorPalette="gray"
              onClick={() => onChange([...chosen, c.key])}
            >
              {c.label}
            </Button>
          ))}
      </HStack>
    </Stack>
  );
}

/** Exports are links to all that the list has, with all columns. */
function Exports({ name, query }: { name: ListName; query: Record<string, string | string[]> }) {
  const at = (format: string) => {
    const p = new URLSearchParams({ format });
    for (const [k, v] of Object.entries(query)) p.set(k, [v].flat().join(','));
    return `/api/v1/exports/${name}?${p.toString()}`;
  };
  return (
    <HStack bg="bg.panel" borderWidth="1px" borderRadius="lg" p="3" gap="3" fontSize="sm" wrap="wrap">
      <Text>All that is listed here, with every column:</Text>
      <Button asChild size="xs" variant="outline" colorPalette="ivy">
        <a href={at('csv')} download>
          CSV, for spreadsheets
        </a>
      </Button>
      <Button asChild size="xs" variant="outline" colorPalette="ivy">
        <a href={at('jsonl')} download>
          JSON lines, for scripts
        </a>
      </Button>
    </HStack>
  );
}
