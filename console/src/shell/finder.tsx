import { Box, Dialog, Input, Portal, Text } from '@chakra-ui/react';
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/react-query';
import { type KeyboardEvent, useEffect, useRef, useState } from 'react';
import { useMatch, useNavigate } from 'react-router';
import type { Group } from '../api/client';
import { partsOf } from '../groups/parts';
import { people } from '../lib/dates';
import { useSettled } from '../lib/use-settled';
import { useMe, useSignOut } from '../session/me';
import { findGroups, size } from '../shared/group-field';
import { findPeople } from '../shared/people-picker';
import { Trouble } from '../ui/parts';
import { places } from './places';

/** Item is something that can be found: it leads to a path, or does something. */
type Item = { section: string; label: string; about?: string; to: string | (() => void) };

/** Finder finds groups, people, pages and actions by the beginnings of their words, by keyboard alone. */
export default function Finder(props: { onDone: () => void; colours: [dark: boolean, turn: () => void] }) {
  // Where the focus was, it is again.
  const [before] = useState(() => document.activeElement);
  useEffect(
    () => () => {
      if (before instanceof HTMLElement) setTimeout(() => document.activeElement === document.body && before.focus());
    },
    [before],
  );
  return (
    <Dialog.Root open onOpenChange={props.onDone} placement="top" size="lg">
      <Portal>
        <Dialog.Backdrop />
        <Dialog.Positioner>
          <Dialog.Content aria-label="Find anything" mt="4rem">
            <Search {...props} />
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}

/** begins tells whether each word typed begins a word of a text. */
function begins(text: string, typed: string) {
  const words = text.toLowerCase().split(/\s+/);
  return typed
    .toLowerCase()
    .split(/\s+/)
    .every((t) => words.some((w) => w.startsWith(t)));
}

/** usePages returns the pages that I may see, and what I may do. */
function usePages([dark, turn]: [dark: boolean, turn: () => void]): Item[] {
  const me = useMe();
  const signOut = useSignOut();
  const queries = useQueryClient();
  const ref = useMatch('/groups/:ref/*')?.params.ref;
  const here = ref ? queries.getQueryData<Group>(['group', ref]) : undefined;
  const can = (action: string, label: string, to: string): Item[] =>
    me.may.includes(action) ? [{ section: 'Actions', label, to }] : [];
  return [
    ...(here ? partsOf(here).map((p): Item => ({ section: here.name, label: p.label, to: p.path })) : []),
    ...me.places.map((p): Item => ({ section: 'Pages', label: places[p][1], to: places[p][0] })),
    ...can('create_group', 'Create a group', '/groups/new'),
    ...can('change_directory', 'Add somebody to the directory', '/people/new'),
    ...can('change_directory', 'Import people from a file', '/people/import'),
    { section: 'Actions', label: 'My account: password, second factor, programs', to: '/account' },
    { section: 'Actions', label: dark ? 'Use light colours' : 'Use dark colours', to: turn },
    { section: 'Actions', label: 'Sign out', to: () => void signOut() },
  ];
}

function Search(props: { colours: [dark: boolean, turn: () => void]; onDone: () => void }) {
  const me = useMe();
  const navigate = useNavigate();
  const [text, setText] = useState('');
  const [at, setAt] = useState(0);
  const typed = text.trim();
  const q = useSettled(typed, 80);
  const pages = usePages(props.colours);
  const groups = useQuery({
    queryKey: ['group', 'find', q],
    enabled: q !== '',
    placeholderData: keepPreviousData,
    queryFn: () => findGroups(q, 8, ['active', 'due', 'lapsed', 'retired']),
  });
  const persons = useQuery({
    queryKey: ['person', 'like', q],
    enabled: q !== '' && me.may.includes('search_people'),
    placeholderData: keepPreviousData,
    queryFn: () => findPeople(q, 8),
  });
  const items: Item[] = typed === '' ? pages : pages.filter((p) => begins(`${p.label} ${p.section}`, typed));
  if (typed !== '') {
    for (const g of groups.data?.items ?? [])
      items.push({
        section: 'Groups',
        label: g.name,
        about: [g.address, people(size(g)), g.term.ended_at ? g.state : ''].filter(Boolean).join(' · '),
        to: `/groups/${g.address}`,
      });
    for (const p of persons.data?.items ?? [])
      items.push({
        section: 'People',
        label: p.name,
        about: [p.address, p.attributes?.title, p.attributes?.department].filter(Boolean).join(' · '),
        to: `/people/${p.address}`,
      });
  }
  const chosen = Math.min(at, items.length - 1);
  const take = (item: Item | undefined) => {
    if (!item) return;
    props.onDone();
    if (typeof item.to === 'string') void navigate(item.to);
    else item.to();
  };
  const press = (e: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1, PageDown: 8, PageUp: -8, Home: -items.length, End: items.length }[e.key];
    if (step !== undefined) {
      e.preventDefault();
      const ends = Math.abs(step) > 1;
      const next = chosen + step;
      setAt(ends ? Math.max(0, Math.min(items.length - 1, next)) : (next + items.length) % Math.max(1, items.length));
    } else if (e.key === 'Enter') {
      e.preventDefault();
      take(items[chosen]);
    }
  };
  const waiting = typed !== q || groups.isFetching || persons.isFetching;
  return (
    <>
      <Input
        autoFocus
        size="lg"
        border="none"
        borderBottomWidth="1px"
        borderBottomRadius="0"
        role="combobox"
        aria-label="Find groups, people, pages and actions"
        aria-expanded={items.length > 0}
        aria-controls="found"
        aria-activedescendant={chosen >= 0 ? `found-${chosen}` : undefined}
        aria-autocomplete="list"
        autoComplete="off"
        placeholder="Find groups, people, pages and actions"
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          setAt(0);
        }}
        onKeyDown={press}
      />
      <Trouble error={groups.error ?? persons.error} />
      <Box id="found" role="listbox" aria-label="What was found" maxH="60vh" overflowY="auto" py="2">
        {items.map((item, i) => (
          <Box key={`${item.section} ${item.label} ${item.about ?? ''}`}>
            {item.section !== items[i - 1]?.section && (
              <Text px="4" pt="2" pb="1" fontSize="xs" fontWeight="600" color="fg.muted" role="presentation">
                {item.section}
              </Text>
            )}
            <Found
              item={item}
              id={`found-${i}`}
              chosen={i === chosen}
              onPoint={() => setAt(i)}
              onTake={() => take(item)}
            />
          </Box>
        ))}
        {items.length === 0 && (
          <Text px="4" py="3" color="fg.muted" role="status">
            {waiting ? 'Looking…' : `Nothing here begins with “${typed}”.`}
          </Text>
        )}
      </Box>
      <Text px="4" py="2" borderTopWidth="1px" fontSize="xs" color="fg.muted">
        ↑ ↓ to choose, Enter to open, Esc to close
      </Text>
    </>
  );
}

function Found(props: { item: Item; id: string; chosen: boolean; onPoint: () => void; onTake: () => void }) {
  const line = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (props.chosen) line.current?.scrollIntoView({ block: 'nearest' });
  }, [props.chosen]);
  return (
    <Box
      ref={line}
      id={props.id}
      role="option"
      aria-selected={props.chosen}
      px="4"
      py="1.5"
      cursor="pointer"
      {...(props.chosen ? { bg: 'ivy.subtle', boxShadow: 'inset 3px 0 0 var(--ivy-colors-ivy-solid)' } : {})}
      onMouseMove={props.onPoint}
      onClick={props.onTake}
    >
      <Text truncate>
        {props.item.label}
        {props.item.about && (
          <Text as="span" ml="2" fontSize="sm" color="fg.muted">
            {props.item.about}
          </Text>
        )}
      </Text>
    </Box>
  );
}
