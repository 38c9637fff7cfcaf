import { Box, Button, HStack, Link as Download, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { Link } from 'react-router';
import { type Abilities, api, ask } from '../api/client';
import { useList } from '../lib/use-list';
import { Loading, More, Panel, Trouble } from '../ui/parts';

const words: Record<string, string> = {
  find: 'find it',
  see_people: 'see who is in it',
  read: 'read it',
  join: 'come in',
  add_people: 'add people',
  post: 'write to it',
  write_owners: 'write to its owners',
  speak_as: 'write as it',
  speak_for: 'write for it',
  leave: 'leave',
};

/** PersonAbilities lists what somebody may do with groups, and why. */
export function PersonAbilities({ person }: { person: string }) {
  const [open, setOpen] = useState(false);
  const [all, setAll] = useState(false);
  return (
    <Panel
      title="What they may do"
      side={
        <Download fontSize="sm" href={`/api/v1/people/${person}/abilities-export${all ? '?all=true' : ''}`} download>
          Export as CSV
        </Download>
      }
    >
      <Stack gap="3">
        <Text fontSize="sm" color="fg.muted">
          With each group: what the rules let them do, and why.
        </Text>
        <HStack>
          <Button
            size="xs"
            variant={open && !all ? 'solid' : 'outline'}
            colorPalette="gray"
            onClick={() => {
              setOpen(true);
              setAll(false);
            }}
          >
            In the groups that they are in
          </Button>
          <Button
            size="xs"
            variant={open && all ? 'solid' : 'outline'}
            colorPalette="gray"
            onClick={() => {
              setOpen(true);
              setAll(true);
            }}
          >
            In every group
          </Button>
        </HStack>
        {open && <Answers key={String(all)} person={person} all={all} />}
      </Stack>
    </Panel>
  );
}

function Answers({ person, all }: { person: string; all: boolean }) {
  const list = useList<Abilities & { id: string }>({
    key: ['person', person, 'abilities', all],
    read: async (_, cursor) => {
      const page = await ask(
        api.GET('/api/v1/people/{ref}/abilities', {
          params: { path: { ref: person }, query: { all, cursor, limit: 30 } },
        }),
      );
      return { ...page, items: page.items.map((x) => ({ ...x, id: x.group.address })) };
    },
  });
  if (list.error) return <Trouble error={list.error} retry={list.retry} />;
  if (!list.loaded) return <Loading what="what they may do" />;
  if (list.rows.length === 0) return <Text fontSize="sm">They are in no group.</Text>;
  return (
    <Box maxH="30rem" overflowY="auto" tabIndex={0} role="region" aria-label="What they may do">
      <Stack as="ul" gap="0" listStyleType="none" fontSize="sm">
        {list.rows.map((x) => (
          <One key={x.id} of={x} />
        ))}
      </Stack>
      <More list={list} />
    </Box>
  );
}

function One({ of: x }: { of: Abilities }) {
  const [why, setWhy] = useState(false);
  const named = (outcome: string) => x.may.filter((m) => m.outcome === outcome).map((m) => words[m.action] ?? m.action);
  const [may, waits] = [named('allow'), named('hold')];
  return (
    <Box as="li" py="2" borderBottomWidth="1px">
      <HStack justify="space-between" align="baseline">
        <Box>
          <Link className="name" to={`/groups/${x.group.address}`}>
            {x.group.name}
          </Link>{' '}
          <Text as="span" color="fg.muted">
            {x.role !== 'none' ? x.role : x.inside ? 'through a nested group' : 'not in it'}
            {x.settled !== 'none' && ` · ${x.settled}`}
            {x.state !== 'active' && ` · ${x.state}`}
          </Text>
        </Box>
        <Button
          size="2xs"
          variant="ghost"
          colorPalette="gray"
          aria-expanded={why}
          aria-label={`Why, in ${x.group.name}`}
          onClick={() => setWhy(!why)}
        >
          {why ? 'Less' : 'Why'}
        </Button>
      </HStack>
      <Text>{may.length > 0 ? `may ${may.join(', ')}` : 'may do nothing with it'}</Text>
      {waits.length > 0 && <Text color="brass.fg">after approval: {waits.join(', ')}</Text>}
      {why && (
        <Stack as="dl" gap="0.5" mt="1" color="fg.muted">
          {x.may.map((m) => (
            <Text key={m.action}>
              <b>{words[m.action] ?? m.action}</b>: {m.says}
            </Text>
          ))}
        </Stack>
      )}
    </Box>
  );
}
