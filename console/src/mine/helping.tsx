import { Box, Heading, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, ask } from '../api/client';
import { plural } from '../lib/dates';
import { useMe } from '../session/me';

/** Helping is the areas in which I help, with the way to their groups. */
export function Helping() {
  const me = useMe();
  const areas = useQuery({
    queryKey: ['me', 'areas'],
    enabled: !me.workspace_role,
    queryFn: () => ask(api.GET('/api/v1/areas')),
  });
  if (!areas.data || areas.data.areas.length === 0) return null;
  return (
    <Box as="section" mb="6">
      <Heading as="h2" size="md" mb="2">
        I help with
      </Heading>
      <Stack as="ul" gap="2" listStyleType="none">
        {areas.data.areas.map((a) => (
          <Box as="li" key={a.name} borderWidth="1px" borderRadius="lg" bg="bg.panel" p="3">
            <Link to={`/groups?filter=${encodeURIComponent(a.filter)}`}>
              <Text as="span" fontWeight="600" textDecoration="underline">
                {a.name}
              </Text>
            </Link>{' '}
            <Text as="span" color="fg.muted" fontSize="sm">
              {plural(a.groups, 'group')}
            </Text>
            <Text fontSize="sm">
              {a.powers.length === 0
                ? 'You see them, who is in them, and their history.'
                : areas.data.known_powers
                    .filter((p) => a.powers.includes(p.name as (typeof a.powers)[number]))
                    .map((p) => p.says)
                    .join('. ') + '.'}
            </Text>
          </Box>
        ))}
      </Stack>
    </Box>
  );
}
