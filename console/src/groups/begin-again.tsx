import { Box, Button, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask, type Group } from '../api/client';
import { useChange } from '../lib/use-change';
import { useStartingPoints } from '../shared/starting-points';
import { Choice, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';

/** BeginAgain makes a group what a starting point says, once it is seen what that changes. */
export function BeginAgain({ group: g }: { group: Group }) {
  const starts = useStartingPoints();
  const [name, setName] = useState('');
  const params = { path: { ref: g.id } };
  const body = { starting_point: name };
  const look = useQuery({
    queryKey: ['group', g.id, 'begin-again', g.version, name],
    enabled: name !== '',
    queryFn: () => ask(api.POST('/api/v1/groups/{ref}/starting-point/preview', { params, body })),
  });
  const begin = useChange(
    ['group', 'joining'],
    () =>
      ask(
        api.POST('/api/v1/groups/{ref}/starting-point', {
          params: { ...params, header: { 'If-Match': `"${g.version}"` } },
          body,
        }),
      ),
    {
      onSuccess: () => {
        setName('');
        toaster.create({ type: 'success', title: `${g.name} is as the starting point says` });
      },
    },
  );
  const p = look.data;
  const possible = p && p.problems.length === 0 && p.effects.length > 0;
  return (
    <Panel title="Begin again from a starting point">
      <Stack gap="3">
        <Choice
          label="Its whole policy, traits and texts become those of"
          value={name}
          choices={[
            ['', 'Choose one to see what it would change'],
            ...(starts.data?.items ?? []).map((s): [string, string] => [s.name, s.title]),
          ]}
          onChange={setName}
        />
        <Trouble error={starts.error ?? look.error ?? begin.error} />
        {p && (
          <Box fontSize="sm" aria-live="polite">
            <Text fontWeight="600">{p.says}</Text>
            {p.problems.map((x) => (
              <Text key={x.field + x.says} className="warn">
                {x.says}
              </Text>
            ))}
            <Stack as="ul" gap="1" listStyleType="none" mt="1">
              {p.effects.map((e) => (
                <li key={e.field}>
                  {e.field !== 'waiting' && `${e.field.replace(/[._]/g, ' ')}: ${e.from || '–'} → ${e.to || '–'}`}
                  {e.says && (
                    <Text as="span" color="fg.muted">
                      {' '}
                      {e.says}
                    </Text>
                  )}
                </li>
              ))}
            </Stack>
          </Box>
        )}
        {possible && (
          <Button
            size="sm"
            alignSelf="start"
            colorPalette="ivy"
            loading={begin.isPending}
            onClick={() => begin.mutate()}
          >
            Make it so
          </Button>
        )}
      </Stack>
    </Panel>
  );
}
