import { Box, Button, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { api, ask, type Terms } from '../../api/client';
import { date, people, plural } from '../../lib/dates';
import { useMe } from '../../session/me';
import { Faults, StandIns, withValue } from '../../shared/policy';
import { Panel, Trouble } from '../../ui/parts';
import { languages } from '../settings';
import type { New } from './draft';

/** termWords says how long a new group will live, as far as that is known before it is made. */
function termWords({ rules }: Terms): string {
  if (rules.length === 0) return 'It never expires, unless the workspace sets a term.';
  const rest = rules.find((r) => !r.filter);
  if (!rest) return 'It expires only where a term rule names it.';
  const unless = rules[0] === rest ? '.' : ', unless another term rule names it.';
  if (rest.length === 'never') return `It never expires${unless}`;
  if (/^\d{4}-/.test(rest.length)) return `It expires on ${date(rest.length)}${unless}`;
  return `It expires ${rest.length} after its last renewal${unless}`;
}

/** alsoWords says what else was chosen, a line each. */
function alsoWords({ sheet: s, ruled }: New): string[] {
  const lines = [];
  if (s.aliases.length > 0) lines.push(`Also at ${s.aliases.join(', ')}.`);
  if (s.traits.length > 0) lines.push(`Does: ${s.traits.join(', ')}.`);
  if (s.language !== 'en') lines.push(`Its notices are written in ${languages.find(([t]) => t === s.language)?.[1]}.`);
  if (s.default_delivery === 'none') lines.push('New members get no mail until they ask.');
  if (ruled > 0) lines.push(`${plural(ruled, 'person is', 'people are')} in by rule.`);
  return lines;
}

/** Sheet says what the group will be, and fills itself while the rest of the page is filled in. */
export function Sheet({ n }: { n: New }) {
  const { draft, sheet, proposal, summary } = n;
  const externals = summary?.settings.find((s) => s.name === 'externals');
  const me = useMe();
  const terms = useQuery({
    queryKey: ['life', 'terms'],
    enabled: me.may.includes('read_terms'),
    queryFn: () => ask(api.GET('/api/v1/terms')),
  });
  return (
    <Box position={{ lg: 'sticky' }} top="5">
      <Panel>
        <Stack gap="3">
          <Box>
            <Text fontFamily="heading" fontSize="xl" fontWeight="600">
              {proposal?.name || sheet.name.trim() || 'A group without a name'}
            </Text>
            <Text color="fg.muted" wordBreak="break-all" data-testid="final-address">
              {proposal?.address || 'no address yet'}
            </Text>
          </Box>
          {proposal?.notes.map((note) => (
            <Text key={note} fontSize="sm" color="fg.muted">
              {note}
            </Text>
          ))}
          {n.alike.length > 0 && (
            <Box borderLeftWidth="4px" borderColor="brass.solid" pl="3" fontSize="sm" aria-live="polite">
              <Text>
                <span className="warn">Is it there already?</span>
              </Text>
              {n.alike.map((a) => (
                <Text key={a.address}>
                  <a href={`/groups/${a.address}`} target="_blank" rel="noreferrer">
                    <u>{a.says.replace(/\.$/, '')}</u>
                  </a>
                  , {people(a.people)}
                  {a.owners.length > 0 && `, run by ${a.owners.map((o) => o.name).join(', ')}`}
                </Text>
              ))}
            </Box>
          )}
          {alsoWords(n).map((x) => (
            <Text key={x} fontSize="sm">
              {x}
            </Text>
          ))}
          {terms.data && <Text>{termWords(terms.data)}</Text>}
          {summary && (
            <>
              <Text>{summary.sentence}</Text>
              <Faults contradictions={summary.contradictions} warnings={summary.warnings} />
            </>
          )}
          {n.barred > 0 && externals && (
            <Box borderLeftWidth="4px" borderColor="brass.solid" pl="3" fontSize="sm" role="alert">
              <Text>
                <span className="warn">{plural(n.barred, 'person is', 'people are')} external</span>, and the group
                takes no external members.
              </Text>
              <Button
                size="xs"
                mt="1"
                variant="outline"
                colorPalette="brass"
                onClick={() => n.set({ policy: withValue(sheet.policy, externals, 'owners') })}
              >
                Let owners add external members
              </Button>
            </Box>
          )}
          <Trouble error={draft.error} />
          <Button
            colorPalette="ivy"
            disabled={n.missing.length > 0}
            loading={draft.saving}
            onClick={() => void draft.save()}
          >
            {n.people > 0 ? `Create and add ${people(n.people)}` : 'Create'}
          </Button>
          {n.missing.length > 0 && (
            <Text fontSize="sm" color="fg.muted">
              Still needs {n.missing.join(', ')}.
            </Text>
          )}
          {summary && <StandIns list={summary.stand_ins} />}
        </Stack>
      </Panel>
    </Box>
  );
}
