import { Box, Button, Grid, Link, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { api, ask, type Group, type Permitted } from '../api/client';
import { plural } from '../lib/dates';
import { useList } from '../lib/use-list';
import { Choice, Loading, More, Panel, Trouble } from '../ui/parts';
import { actions, outcomes } from './actions';
import { Rehearse } from './rehearse';

const listed = [
  'post',
  'write_owners',
  'find',
  'see_people',
  'read',
  'join',
  'add_people',
  'speak_as',
  'speak_for',
] as const;
type Listed = (typeof listed)[number];

/** Trying answers what would happen, and who may do what, without anything being done. */
export function Trying({ group: g, draft }: { group: Group; draft: string }) {
  const mayAsk = g.may?.includes('rehearse') ?? false;
  return (
    <Grid
      templateColumns={{ base: 'minmax(0, 1fr)', lg: mayAsk ? 'minmax(0, 1fr) minmax(0, 1fr)' : 'minmax(0, 1fr)' }}
      gap="5"
      alignItems="start"
    >
      <Rehearse group={g} byName={mayAsk} />
      {mayAsk && <WhoMay group={g} draft={draft} />}
    </Grid>
  );
}

/** WhoMay lists who may do something with a group, and why; with a draft, for whom it would change. */
function WhoMay({ group: g, draft }: { group: Group; draft: string }) {
  const [action, setAction] = useState<Listed>('post');
  const [changed, setChanged] = useState(true);
  const asked = { action, ...(draft && changed ? { draft } : {}) };
  const path = { ref: g.id };
  const list = useList<Permitted & { id: string }>({
    key: ['group', g.id, 'permitted', g.version, asked],
    read: async (_, cursor) => {
      const page = await ask(
        api.GET('/api/v1/groups/{ref}/permitted', { params: { path, query: { ...asked, cursor, limit: 50 } } }),
      );
      return { ...page, items: page.items.map((p) => ({ ...p, id: p.address })) };
    },
  });
  return (
    <Panel
      title="Who may, and why"
      side={
        <Link
          fontSize="sm"
          href={`/api/v1/groups/${g.id}/permitted-export?${new URLSearchParams(asked).toString()}`}
          download
        >
          Export as CSV
        </Link>
      }
    >
      <Stack gap="3">
        <Choice
          label="Who may"
          value={action}
          choices={actions.filter(([a]) => listed.some((l) => l === a))}
          onChange={(a) => setAction(a as Listed)}
        />
        {draft && (
          <Button
            size="xs"
            alignSelf="start"
            variant="outline"
            colorPalette="brass"
            aria-pressed={changed}
            onClick={() => setChanged(!changed)}
          >
            {changed
              ? 'Only those for whom the draft changes it: show all'
              : 'As it is saved: show what the draft changes'}
          </Button>
        )}
        <Trouble error={list.error} retry={list.retry} />
        {!list.loaded && !list.error && <Loading what="who may" />}
        {list.loaded && (
          <>
            <Text fontSize="sm" color="fg.muted">
              {list.total === 0
                ? draft && changed
                  ? 'The draft changes this for nobody.'
                  : 'Nobody.'
                : `${plural(list.total, 'line', 'lines')}.`}{' '}
              {list.hidden}
            </Text>
            <Box maxH="24rem" overflowY="auto" tabIndex={0} role="region" aria-label="Who may, and why">
              <Stack as="ul" gap="0" listStyleType="none" fontSize="sm">
                {list.rows.map((p) => (
                  <Box as="li" key={p.id} py="1.5" borderBottomWidth="1px">
                    <Text>
                      <b>{p.name || p.address}</b>{' '}
                      <Text as="span" color="fg.muted">
                        {[
                          p.external && p.address !== '*' && 'external',
                          p.role !== 'none' && p.role,
                          p.role === 'none' && p.through.length > 0 && `through ${p.through.join(', ')}`,
                        ]
                          .filter(Boolean)
                          .join(' · ')}
                      </Text>
                    </Text>
                    <Text color="fg.muted">
                      {p.was && `${outcomes[p.was].words} → `}
                      {p.outcome !== 'allow' || p.was ? `${outcomes[p.outcome].words}. ` : ''}
                      {p.says}
                    </Text>
                  </Box>
                ))}
              </Stack>
              <More list={list} />
            </Box>
          </>
        )}
      </Stack>
    </Panel>
  );
}
