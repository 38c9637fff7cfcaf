import { Box, Button, Heading, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { api, ask } from '../api/client';
import { inDays, people, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { Frame } from '../ui/frame';
import { Loading, Trouble } from '../ui/parts';

/** Renew lets whoever got a letter about groups that expire renew them by its link, without signing in. */
export default function Renew() {
  const { secret = '' } = useParams();
  const path = { secret };
  const [without, setWithout] = useState<ReadonlySet<string>>(new Set());
  const [reason, setReason] = useState('');
  const read = useQuery({
    queryKey: ['life', 'told', secret],
    queryFn: () => ask(api.GET('/api/v1/told/{secret}', { params: { path } })),
  });
  const renew = useChange(['life'], (groups: string[]) =>
    ask(api.POST('/api/v1/told/{secret}', { params: { path }, body: { groups, ...(reason ? { reason } : {}) } })),
  );
  const told = renew.data ?? read.data;
  const renewable = told?.groups.filter((g) => g.renewable) ?? [];
  const chosen = renewable.filter((g) => !without.has(g.id));
  return (
    <Frame width="42rem">
      <Trouble error={read.error} />
      {!told && !read.error && <Loading what="your groups" />}
      {told && (
        <Stack gap="4">
          <Box>
            <Text color="fg.muted">{told.recipient}</Text>
            <Heading as="h1" size="2xl">
              {renew.data
                ? 'Renewed'
                : renewable.length === 1
                  ? `Is ${renewable[0]?.name} still needed?`
                  : 'Are these groups still needed?'}
            </Heading>
          </Box>
          {told.groups.length === 0 && (
            <Text>None of the groups of this letter is yours to renew any more. You need not do anything.</Text>
          )}
          <Stack as="ul" gap="3" listStyleType="none">
            {told.groups.map((g) => (
              <Box as="li" key={g.id} borderWidth="1px" borderRadius="md" p="3">
                <HStack as="label" align="start" gap="3">
                  {g.renewable && !renew.data && renewable.length > 1 && (
                    <input
                      type="checkbox"
                      style={{ marginTop: '0.35rem' }}
                      checked={!without.has(g.id)}
                      onChange={(e) =>
                        setWithout((all) => {
                          const next = new Set(all);
                          if (e.target.checked) next.delete(g.id);
                          else next.add(g.id);
                          return next;
                        })
                      }
                    />
                  )}
                  <Box minW="0">
                    <Text fontWeight="600">{g.name}</Text>
                    <Text fontSize="sm" color="fg.muted">
                      {g.address} · {people(g.people)}
                    </Text>
                    {g.description && <Text fontSize="sm">{g.description}</Text>}
                    <Text fontSize="sm" mt="1">
                      {g.expires_on ? `Expires ${inDays(g.expires_on, g.days_left)}.` : g.says}
                      {g.expires_on && g.says ? ` ${g.says}` : ''}
                    </Text>
                  </Box>
                </HStack>
                {g.renewable && !renew.data && (
                  <HStack mt="2" gap="4" fontSize="sm" wrap="wrap">
                    <Link to={`/groups/${g.address}/term`}>
                      <u>Not needed any more</u>
                    </Link>
                    <Link to={`/groups/${g.address}/people`}>
                      <u>Hand it to somebody</u>
                    </Link>
                    <Text color="fg.muted">(sign in for these)</Text>
                  </HStack>
                )}
              </Box>
            ))}
          </Stack>
          <Trouble error={renew.error} />
          {renewable.length > 0 && !renew.data && (
            <Stack gap="2">
              <Input
                size="sm"
                maxLength={500}
                aria-label="Why they are still needed"
                placeholder="Why, if you like: it is kept with the renewal"
                value={reason}
                onChange={(e) => setReason(e.target.value)}
              />
              <Button
                colorPalette="ivy"
                size="lg"
                disabled={chosen.length === 0}
                loading={renew.isPending}
                onClick={() => renew.mutate(chosen.map((g) => g.id))}
              >
                Renew {chosen.length === 1 ? chosen[0]?.name : plural(chosen.length, 'group')}
              </Button>
            </Stack>
          )}
          {renew.data && (
            <Text role="status" fontWeight="600">
              That is all. You can close this page.
            </Text>
          )}
        </Stack>
      )}
    </Frame>
  );
}
