import { Box, Button, Heading, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { api, ask } from '../api/client';
import { date, people, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { Frame } from '../ui/frame';
import { Loading, Trouble } from '../ui/parts';

/** RoundLetter lets whoever got a letter of a round keep groups by its link, without signing in. */
export default function RoundLetter() {
  const { secret = '' } = useParams();
  const path = { secret };
  const [without, setWithout] = useState<ReadonlySet<string>>(new Set());
  const [note, setNote] = useState('');
  const read = useQuery({
    queryKey: ['round', 'letter', secret],
    queryFn: () => ask(api.GET('/api/v1/round-letters/{secret}', { params: { path } })),
  });
  const keep = useChange(['round'], (ids: string[]) =>
    ask(
      api.POST('/api/v1/round-letters/{secret}', { params: { path }, body: { ids, ...(note.trim() ? { note } : {}) } }),
    ),
  );
  const told = keep.data ?? read.data;
  const chosen = (told?.groups ?? []).filter((g) => !without.has(g.id));
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
                  <Box as="li" key={g.id} borderWidth="1px" borderRadius="md" p="3">
                    <HStack as="label" align="start" gap="3">
                      {told.groups.length > 1 && (
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
                          {g.external > 0 && `, ${g.external} of them from outside`}
                        </Text>
                      </Box>
                    </HStack>
                  </Box>
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
              <Input
                size="sm"
                maxLength={500}
                aria-label="A note"
                placeholder="A note, if you like: it is kept with the answer"
                value={note}
                onChange={(e) => setNote(e.target.value)}
              />
              <Button
                colorPalette="ivy"
                size="lg"
                disabled={chosen.length === 0}
                loading={keep.isPending}
                onClick={() => keep.mutate(chosen.map((g) => g.id))}
              >
                Keep {chosen.length === 1 ? chosen[0]?.name : plural(chosen.length, 'group')} as{' '}
                {chosen.length === 1 ? 'it is' : 'they are'}
              </Button>
            </>
          )}
        </Stack>
      )}
    </Frame>
  );
}
