import { Box, Button, HStack, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { api, ask, type Differing as Group } from '../api/client';
import { plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useList } from '../lib/use-list';
import { useMe } from '../session/me';
import { More, Trouble } from '../ui/parts';

/** Differing lists the groups that differ from the starting point that they were begun from, and brings them back. */
export function Differing() {
  const may = useMe().may.includes('change_many');
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const list = useList({
    key: ['naming', 'differing'],
    read: (_, cursor) =>
      ask(api.GET('/api/v1/starting-point-differences', { params: { query: { cursor, limit: 50 } } })),
  });
  const back = useChange(
    ['group', 'naming', 'bulk'],
    (g: Group) => ask(api.POST('/api/v1/changes', { body: { groups: [g.id], starting_point: g.starting_point } })),
    { onSuccess: (b) => void navigate(`/changes/${b.id}`) },
  );
  if (list.error) return <Trouble error={list.error} retry={list.retry} />;
  if (!list.loaded) return null;
  return (
    <Box borderTopWidth="1px" pt="3" fontSize="sm">
      <HStack>
        <Text>
          {list.total === 0
            ? 'Every group is as the starting point says that it was begun from.'
            : `${plural(list.total, 'group differs from what it was', 'groups differ from what they were')} begun from.`}
        </Text>
        {list.total > 0 && (
          <Button
            size="xs"
            variant="plain"
            colorPalette="ivy"
            px="0"
            aria-expanded={open}
            onClick={() => setOpen(!open)}
          >
            <u>{open ? 'Hide them' : 'Show them'}</u>
          </Button>
        )}
      </HStack>
      {open && (
        <Stack as="ul" gap="2" listStyleType="none" mt="2">
          {list.rows.map((g) => (
            <HStack as="li" key={g.id} justify="space-between" align="start">
              <Box>
                <Link to={`/groups/${g.group.address}/reach`}>
                  <u>{g.group.name}</u>
                </Link>
                , from {g.title}
                <Text color="fg.muted">
                  {g.differences
                    .map((d) => `${d.field.replaceAll('_', ' ')} is ${d.to || 'empty'}, not ${d.from || 'empty'}`)
                    .join('; ')}
                </Text>
              </Box>
              {may && (
                <Button
                  size="xs"
                  variant="outline"
                  colorPalette="gray"
                  loading={back.isPending}
                  aria-label={`Bring it back: ${g.group.name} to ${g.title}`}
                  onClick={() => back.mutate(g)}
                >
                  Bring it back
                </Button>
              )}
            </HStack>
          ))}
          <More list={list} />
          <Trouble error={back.error} />
        </Stack>
      )}
    </Box>
  );
}
