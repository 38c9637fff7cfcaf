import { Box, Heading, HStack, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { api, ask } from '../api/client';
import { inDays, people, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { Frame } from '../ui/frame';
import { Loading, Trouble } from '../ui/parts';
import { GroupLine, useChosen, WithWords } from './groups';

/** Renew lets whoever got a letter about groups that expire renew them by its link, without signing in. */
export default function Renew() {
  const { secret = '' } = useParams();
  const path = { secret };
  const read = useQuery({
    queryKey: ['life', 'told', secret],
    queryFn: () => ask(api.GET('/api/v1/told/{secret}', { params: { path } })),
  });
  const renew = useChange(['life'], (body: { groups: string[]; reason?: string }) =>
    ask(api.POST('/api/v1/told/{secret}', { params: { path }, body })),
  );
  const told = renew.data ?? read.data;
  const renewable = told?.groups.filter((g) => g.renewable) ?? [];
  const { chosen, has, choose } = useChosen(renewable);
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
              <GroupLine
                key={g.id}
                group={g}
                chosen={has(g.id)}
                choose={g.renewable && !renew.data && renewable.length > 1 ? choose : undefined}
                below={
                  g.renewable &&
                  !renew.data && (
                    <HStack mt="2" gap="4" fontSize="sm" wrap="wrap">
                      <Link to={`/groups/${g.address}/term`}>
                        <u>Not needed any more</u>
                      </Link>
                      <Link to={`/groups/${g.address}/people`}>
                        <u>Hand it to somebody</u>
                      </Link>
                      <Text color="fg.muted">(sign in for these)</Text>
                    </HStack>
                  )
                }
              >
                <Text fontSize="sm" color="fg.muted">
                  {g.address} · {people(g.people)}
                </Text>
                {g.description && <Text fontSize="sm">{g.description}</Text>}
                <Text fontSize="sm" mt="1">
                  {g.expires_on ? `Expires ${inDays(g.expires_on, g.days_left)}.` : g.says}
                  {g.expires_on && g.says ? ` ${g.says}` : ''}
                </Text>
              </GroupLine>
            ))}
          </Stack>
          <Trouble error={renew.error} />
          {renewable.length > 0 && !renew.data && (
            <WithWords
              label="Why they are still needed"
              placeholder="Why, if you like: it is kept with the renewal"
              disabled={chosen.length === 0}
              pending={renew.isPending}
              act={(reason) => renew.mutate({ groups: chosen.map((g) => g.id), ...(reason ? { reason } : {}) })}
            >
              Renew {chosen.length === 1 ? chosen[0]?.name : plural(chosen.length, 'group')}
            </WithWords>
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
