import { Box, Heading, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { api, ask } from '../api/client';
import { date, people, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { Frame } from '../ui/frame';
import { Loading, Trouble } from '../ui/parts';
import { GroupLine, useChosen, WithWords } from './groups';

/** RoundLetter lets whoever got a letter of a round keep groups by its link, without signing in. */
export default function RoundLetter() {
  const { secret = '' } = useParams();
  const path = { secret };
  const read = useQuery({
    queryKey: ['round', 'letter', secret],
    queryFn: () => ask(api.GET('/api/v1/round-letters/{secret}', { params: { path } })),
  });
  const keep = useChange(['round'], (body: { ids: string[]; note?: string }) =>
    ask(api.POST('/api/v1/round-letters/{secret}', { params: { path }, body })),
  );
  const told = keep.data ?? read.data;
  const { chosen, has, choose } = useChosen(told?.groups ?? []);
  return (
    <Frame width="42rem">
      <Trouble error={read.error} />
      {!told && !read.error && <Loading what="your groups" />}
      {told && (
        <Stack gap="4">
          <Box>
            <Text color="fg.muted">{told.recipient}</Text>
            <Heading as="h1" size="2xl">
              {told.kept > 0
                ? 'Confirmed'
                : told.groups.length === 1
                  ? `Is ${told.groups[0]?.name} right as it is?`
                  : 'Are these groups right as they are?'}
            </Heading>
            <Text>
              {told.round}
              {told.open && told.groups.length > 0 && `, to be answered by ${date(told.due_on)}`}.
            </Text>
            {told.note && <Text fontStyle="italic">{told.note}</Text>}
          </Box>
          {told.kept > 0 && (
            <Text role="status" fontWeight="600">
              {plural(told.kept, 'group')} confirmed.{' '}
              {told.groups.length === 0 && 'That is all: you can close this page.'}
            </Text>
          )}
          {told.groups.length === 0 && told.kept === 0 && (
            <Text>Everything that this letter asked is answered, or not yours to answer any more.</Text>
          )}
          {told.groups.length > 0 && told.open && (
            <>
              <Box fontSize="sm">
                <Text>By keeping them you confirm of each:</Text>
                <ul style={{ paddingLeft: '1.2rem' }}>
                  {told.questions.map((q) => (
                    <li key={q.question}>{q.says}</li>
                  ))}
                </ul>
              </Box>
              <Stack as="ul" gap="3" listStyleType="none">
                {told.groups.map((g) => (
                  <GroupLine
                    key={g.id}
                    group={g}
                    chosen={has(g.id)}
                    choose={told.groups.length > 1 ? choose : undefined}
                  >
                    <Text fontSize="sm" color="fg.muted">
                      {g.address} · {people(g.people)}
                      {g.external > 0 && `, ${g.external} of them from outside`}
                    </Text>
                  </GroupLine>
                ))}
              </Stack>
              <Text fontSize="sm">
                To take people out, to hand a group over or to retire it,{' '}
                <Link to="/confirm">
                  <u>sign in</u>
                </Link>
                .
              </Text>
              <Trouble error={keep.error} />
              <WithWords
                label="A note"
                placeholder="A note, if you like: it is kept with the answer"
                disabled={chosen.length === 0}
                pending={keep.isPending}
                act={(note) => keep.mutate({ ids: chosen.map((g) => g.id), ...(note ? { note } : {}) })}
              >
                Keep {chosen.length === 1 ? chosen[0]?.name : plural(chosen.length, 'group')} as{' '}
                {chosen.length === 1 ? 'it is' : 'they are'}
              </WithWords>
            </>
          )}
        </Stack>
      )}
    </Frame>
  );
}
