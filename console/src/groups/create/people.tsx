import { Badge, Box, Button, HStack, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { X } from 'lucide-react';
import { useMemo, useState } from 'react';
import { people } from '../../lib/dates';
import { useMe } from '../../session/me';
import { Many } from '../../shared/people-list';
import { PeoplePicker } from '../../shared/people-picker';
import { RuleField, RuleMatchView } from '../rule';
import type { New, Who } from './draft';
import { Section } from './section';

/** What a list of people was read from. */
const kinds = {
  text: 'a pasted list',
  table: 'a table',
  group: 'a group',
  workspace: 'everyone',
  history: 'the history',
};

/** useTaken are the addresses that are on the sheet already. */
const useTaken = (n: New) => useMemo(() => n.sheet.who.map((w) => w.address), [n.sheet.who]);

export function Owners({ n }: { n: New }) {
  const administrator = useMe().workspace_role === 'administrator';
  const taken = useTaken(n);
  return (
    <Section id="owners" title="Owners">
      <Stack gap="3">
        <Text fontSize="sm" color="fg.muted">
          Owners say who is in it and what it is for. One at least, two are better.
          {administrator && ' You are not among them unless you add yourself.'}
        </Text>
        <PeoplePicker label="Add an owner" placeholder="Begin to type a name" taken={taken} onPick={n.add('owner')} />
        <Chosen n={n} list={n.sheet.who.filter((w) => w.role === 'owner')} />
        {n.draft.problem('who') && (
          <Text role="alert" className="warn">
            {n.draft.problem('who')}
          </Text>
        )}
      </Stack>
    </Section>
  );
}

export function People({ n }: { n: New }) {
  const [many, setMany] = useState(false);
  const { sheet, set } = n;
  const taken = useTaken(n);
  return (
    <Section id="people" title="People">
      <Stack gap="3">
        <PeoplePicker
          label="Add a member"
          placeholder="A name, an address outside, or a group's address to nest it"
          outsiders
          taken={taken}
          onPick={n.add('member')}
        />
        <Chosen n={n} list={sheet.who.filter((w) => w.role !== 'owner')} roles />
        <details open={many} onToggle={(e) => setMany(e.currentTarget.open)}>
          <Text as="summary" fontSize="sm" fontWeight="600" cursor="pointer">
            Many at once: paste, a file, people of a group, everyone
          </Text>
          {many && (
            <Box mt="2">
              <Many
                externals={n.summary?.externals ?? 'barred'}
                everyone
                actions={(list, read) => (
                  <Button
                    size="sm"
                    variant="outline"
                    colorPalette="ivy"
                    alignSelf="start"
                    disabled={!read.ready}
                    onClick={() => {
                      const words = kinds[read.list?.kind ?? 'text'];
                      set({ lists: [...sheet.lists, { list, words, ready: read.ready ?? 0 }] });
                      setMany(false);
                    }}
                  >
                    Put {people(read.ready ?? 0)} on the sheet
                  </Button>
                )}
              />
            </Box>
          )}
        </details>
        {sheet.lists.map((l, i) => (
          <Button
            key={i}
            size="xs"
            alignSelf="start"
            variant="subtle"
            colorPalette="ivy"
            onClick={() => set({ lists: sheet.lists.filter((_, x) => x !== i) })}
          >
            {people(l.ready)} from {l.words} ×
          </Button>
        ))}
        {sheet.rule === null ? (
          <Button size="xs" alignSelf="start" variant="outline" colorPalette="gray" onClick={() => set({ rule: '' })}>
            Or by a rule: everyone whose attributes match
          </Button>
        ) : (
          <Stack gap="2" borderTopWidth="1px" pt="3">
            <HStack justify="space-between">
              <Text fontSize="sm" fontWeight="600">
                By rule
              </Text>
              <Button size="xs" variant="ghost" colorPalette="gray" onClick={() => set({ rule: null })}>
                Without a rule
              </Button>
            </HStack>
            <RuleField value={sheet.rule} onChange={(rule) => set({ rule })} preview={n.match} />
            {n.match && sheet.rule.trim() !== '' && <RuleMatchView preview={n.match} />}
          </Stack>
        )}
      </Stack>
    </Section>
  );
}

/** Chosen lists people who are on the sheet. */
function Chosen({ n, list, roles }: { n: New; list: Who[]; roles?: boolean }) {
  const { who } = n.sheet;
  return (
    <Stack as="ul" gap="1" listStyleType="none">
      {list.map((w) => (
        <HStack as="li" key={w.address} bg="bg.subtle" borderRadius="md" px="3" py="1.5" justify="space-between">
          <Box minW="0">
            <Text fontWeight="600" truncate>
              {w.name} {n.external(w.address) && <Badge colorPalette="brass">external</Badge>}
            </Text>
            {w.name !== w.address && (
              <Text fontSize="sm" color="fg.muted" truncate>
                {w.address}
              </Text>
            )}
          </Box>
          <HStack>
            {roles && !n.external(w.address) && (
              <NativeSelect.Root size="xs" w="7.5rem">
                <NativeSelect.Field
                  aria-label={`Role of ${w.name}`}
                  value={w.role}
                  onChange={(e) => {
                    const role = e.target.value as Who['role'];
                    n.set({ who: who.map((x) => (x === w ? { ...x, role } : x)) });
                  }}
                >
                  <option value="member">member</option>
                  <option value="moderator">moderator</option>
                </NativeSelect.Field>
                <NativeSelect.Indicator />
              </NativeSelect.Root>
            )}
            <Button
              size="xs"
              variant="ghost"
              colorPalette="gray"
              aria-label={`Take ${w.name} off the sheet`}
              onClick={() => n.set({ who: who.filter((x) => x !== w) })}
            >
              <X size={14} />
            </Button>
          </HStack>
        </HStack>
      ))}
    </Stack>
  );
}
