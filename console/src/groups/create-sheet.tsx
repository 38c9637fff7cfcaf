import { Badge, Box, Button, HStack, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { X } from 'lucide-react';
import type { ReactNode } from 'react';
import {
  api,
  ask,
  type Expiry,
  type LookAlike,
  type PeopleList,
  type Picture,
  type PolicyPatch,
  type Proposal,
} from '../api/client';
import { useMe } from '../session/me';
import { plural } from '../ui/dates';
import { Panel, Trouble } from '../ui/parts';
import { Faults, StandIns } from '../ui/policy';

export type Who = { address: string; name: string; role: 'owner' | 'moderator' | 'member' };

/** Listed is a list of people that was looked at, with how many of it can be added. */
export type Listed = { list: PeopleList; words: string; ready: number };

/** Draft is a sheet that is being filled in. It survives a closed tab. */
export type Draft = {
  start: string;
  name: string;
  local: string | null;
  domain: string;
  aliases: string[];
  description: string;
  who: Who[];
  lists: Listed[];
  policy: PolicyPatch;
  traits: string[];
  language: string;
  delivery: string;
  welcome: string;
  rule: string | null;
};

export function Section({ id, title, children }: { id: string; title: string; children: ReactNode }) {
  return (
    <Box id={id} scrollMarginTop="4">
      <Panel title={title}>{children}</Panel>
    </Box>
  );
}

export function Steps({ done }: { done: Record<string, boolean> }) {
  return (
    <Stack as="nav" aria-label="Parts of the sheet" position={{ lg: 'sticky' }} top="5" gap="1" hideBelow="lg">
      {(
        [
          ['start', 'Start'],
          ['name', 'Name'],
          ['owners', 'Owners'],
          ['people', 'People'],
          ['reach', 'Reach'],
          ['use', 'Use'],
        ] as const
      ).map(([id, label]) => (
        <a key={id} href={`#${id}`} style={{ padding: '0.35rem 0.6rem', borderRadius: 6 }}>
          <span aria-hidden="true">{done[id] ? '✓ ' : '· '}</span>
          {label}
        </a>
      ))}
    </Stack>
  );
}

export function Chosen(props: {
  list: Who[];
  external: (a: string) => boolean;
  onRemove: (a: string) => void;
  onRole?: (a: string, role: Who['role']) => void;
}) {
  return (
    <Stack as="ul" gap="1" listStyleType="none">
      {props.list.map((w) => (
        <HStack as="li" key={w.address} bg="bg.subtle" borderRadius="md" px="3" py="1.5" justify="space-between">
          <Box minW="0">
            <Text fontWeight="600" truncate>
              {w.name} {props.external(w.address) && <Badge colorPalette="brass">external</Badge>}
            </Text>
            {w.name !== w.address && (
              <Text fontSize="sm" color="fg.muted" truncate>
                {w.address}
              </Text>
            )}
          </Box>
          <HStack>
            {props.onRole && !props.external(w.address) && (
              <NativeSelect.Root size="xs" w="7.5rem">
                <NativeSelect.Field
                  aria-label={`Role of ${w.name}`}
                  value={w.role}
                  onChange={(e) => props.onRole?.(w.address, e.target.value as Who['role'])}
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
              onClick={() => props.onRemove(w.address)}
            >
              <X size={14} />
            </Button>
          </HStack>
        </HStack>
      ))}
    </Stack>
  );
}

/** termWords says how long a new group will live. */
function termWords(e: Expiry | undefined): string {
  if (!e) return '';
  return e.term_days > 0 && e.scope === 'all'
    ? `It expires ${plural(e.term_days, 'day')} after its last renewal.`
    : 'It never expires, unless the workspace sets a term.';
}

/** Sheet fills itself while the rest of the page is filled in. */
export function Sheet(props: {
  draft: Draft;
  proposal: Proposal | undefined;
  picture: Picture | undefined;
  missing: string[];
  alike: LookAlike[];
  also: string[]; // what else was chosen, a line each
  people: number;
  barred: number; // external members whom the policy does not take
  onAdmit: () => void;
  error: unknown;
  busy: boolean;
  onCreate: () => void;
}) {
  const { draft, proposal, picture } = props;
  const me = useMe();
  const expiry = useQuery({
    queryKey: ['expiry'],
    enabled: me.may.includes('read_expiry'),
    queryFn: () => ask(api.GET('/api/v1/expiry')),
  });
  return (
    <Box position={{ lg: 'sticky' }} top="5">
      <Panel>
        <Stack gap="3">
          <Box>
            <Text fontFamily="heading" fontSize="xl" fontWeight="600">
              {proposal?.name || draft.name.trim() || 'A group without a name'}
            </Text>
            <Text color="fg.muted" wordBreak="break-all" data-testid="final-address">
              {proposal?.address || 'no address yet'}
            </Text>
          </Box>
          {proposal?.notes.map((n) => (
            <Text key={n} fontSize="sm" color="fg.muted">
              {n}
            </Text>
          ))}
          {props.alike.length > 0 && (
            <Box borderLeftWidth="4px" borderColor="brass.solid" pl="3" fontSize="sm" aria-live="polite">
              <Text>
                <span className="warn">Is it there already?</span>
              </Text>
              {props.alike.map((a) => (
                <Text key={a.address}>
                  <a href={`/groups/${a.address}`} target="_blank" rel="noreferrer">
                    <u>{a.says.replace(/\.$/, '')}</u>
                  </a>
                  , {plural(a.people, 'person', 'people')}
                  {a.owners.length > 0 && `, run by ${a.owners.map((o) => o.name).join(', ')}`}
                </Text>
              ))}
            </Box>
          )}
          {props.also.map((x) => (
            <Text key={x} fontSize="sm">
              {x}
            </Text>
          ))}
          {expiry.data && <Text>{termWords(expiry.data)}</Text>}
          {picture && (
            <>
              <Text>{picture.sentence}</Text>
              <Faults contradictions={picture.contradictions} warnings={picture.warnings} />
            </>
          )}
          {props.barred > 0 && (
            <Box borderLeftWidth="4px" borderColor="brass.solid" pl="3" fontSize="sm" role="alert">
              <Text>
                <span className="warn">{plural(props.barred, 'person is', 'people are')} external</span>, and the group
                takes no external members.
              </Text>
              <Button size="xs" mt="1" variant="outline" colorPalette="brass" onClick={props.onAdmit}>
                Let owners add external members
              </Button>
            </Box>
          )}
          <Trouble error={props.error} />
          <Button colorPalette="ivy" disabled={props.missing.length > 0} loading={props.busy} onClick={props.onCreate}>
            {props.people > 0 ? `Create and add ${plural(props.people, 'person', 'people')}` : 'Create'}
          </Button>
          {props.missing.length > 0 && (
            <Text fontSize="sm" color="fg.muted">
              Still needs {props.missing.join(', ')}.
            </Text>
          )}
          {picture && <StandIns list={picture.stand_ins} />}
        </Stack>
      </Panel>
    </Box>
  );
}
