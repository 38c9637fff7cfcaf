import { Box, Button, Heading, HStack, Progress, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useParams } from 'react-router';
import { api, ask, type Bulk } from '../api/client';
import { moment, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useList } from '../lib/use-list';
import { Fact, Loading, More, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';

/** ChangePage is one change of many groups: how far it is, what could not be changed, stopping and undoing it. */
export default function ChangePage() {
  const { id = '' } = useParams();
  const path = { id };
  const found = useQuery({
    queryKey: ['bulk', id],
    queryFn: () => ask(api.GET('/api/v1/changes/{id}', { params: { path } })),
    refetchInterval: (q) => (q.state.data?.state === 'running' ? 700 : false),
  });
  if (found.error) return <Trouble error={found.error} retry={() => void found.refetch()} />;
  if (!found.data) return <Loading what="the change" />;
  return <One key={found.data.state} change={found.data} />;
}

function One({ change: b }: { change: Bulk }) {
  const navigate = useNavigate();
  const path = { id: b.id };
  const refused = useList({
    key: ['bulk', b.id, 'refused', b.refused],
    read: async (_, cursor) => {
      const p = await ask(
        api.GET('/api/v1/changes/{id}/items', { params: { path, query: { outcome: 'refused', cursor, limit: 50 } } }),
      );
      return { ...p, items: p.items.map((x) => ({ ...x, id: x.group })) };
    },
  });
  const fails = (title: string) => ({
    onError: (e: Error) => toaster.create({ type: 'error', title, description: e.message }),
  });
  const stop = useChange(
    ['bulk', 'group'],
    () => ask(api.POST('/api/v1/changes/{id}/stop', { params: { path } })),
    fails('It was not stopped'),
  );
  const undo = useChange(['bulk', 'group'], () => ask(api.POST('/api/v1/changes/{id}/undo', { params: { path } })), {
    onSuccess: (next) => void navigate(`/changes/${next.id}`),
    ...fails('It was not undone'),
  });
  const state = { running: 'is being done', stopped: 'was stopped', done: 'is done' }[b.state];
  return (
    <Box p={{ base: 3, md: 5 }} maxW="60rem" mx="auto">
      <Stack gap="4">
        <Heading as="h1" size="2xl">
          A change of {plural(b.total, 'group')} {state}
        </Heading>
        <Panel>
          <Stack gap="4">
            <Text fontFamily="heading" fontSize="lg">
              {b.says.charAt(0).toUpperCase() + b.says.slice(1)}.
            </Text>
            <Progress.Root value={b.come} max={Math.max(1, b.total)} colorPalette="ivy" aria-label="How far it is">
              <Progress.Track>
                <Progress.Range />
              </Progress.Track>
            </Progress.Root>
            <Stack as="dl" gap="1" aria-live="polite">
              <Fact name="Come to">
                {b.come.toLocaleString('en-GB')} of {b.total.toLocaleString('en-GB')}
              </Fact>
              <Fact name="Changed">{b.changed.toLocaleString('en-GB')}</Fact>
              <Fact name="So already">{b.same.toLocaleString('en-GB')}</Fact>
              <Fact name="Not changed">
                {b.refused > 0 ? <span className="warn">{b.refused.toLocaleString('en-GB')}, listed below</span> : '0'}
              </Fact>
              <Fact name="By">
                {b.by}, {moment(b.made_at)}
              </Fact>
              {b.reason && <Fact name="Why it ended">{b.reason}</Fact>}
              {b.undo_of && (
                <Fact name="Undoes">
                  <Link to={`/changes/${b.undo_of}`}>an earlier change</Link>
                </Fact>
              )}
              {b.undone_by && (
                <Fact name="Undone">
                  <Link to={`/changes/${b.undone_by}`}>by a later change</Link>
                </Fact>
              )}
            </Stack>
            <HStack>
              {b.state === 'running' && (
                <Button
                  size="sm"
                  variant="outline"
                  colorPalette="brass"
                  loading={stop.isPending}
                  onClick={() => stop.mutate()}
                >
                  Stop it here
                </Button>
              )}
              {b.may_undo && (
                <Button
                  size="sm"
                  variant="outline"
                  colorPalette="ivy"
                  loading={undo.isPending}
                  onClick={() => undo.mutate()}
                >
                  Undo it in {plural(b.changed, 'group')}
                </Button>
              )}
              <Button asChild size="sm" variant="ghost" colorPalette="gray">
                <Link to="/groups">Back to the groups</Link>
              </Button>
            </HStack>
            {b.may_undo && (
              <Text fontSize="sm" color="fg.muted">
                Undoing leaves groups alone that were changed since.
              </Text>
            )}
          </Stack>
        </Panel>
        {refused.rows.length > 0 && (
          <Panel title="Could not be changed">
            <Stack as="ul" gap="1" listStyleType="none" fontSize="sm">
              {refused.rows.map((x) => (
                <li key={x.group}>
                  <Link to={`/groups/${x.group}`}>
                    <b>{x.name || 'A group that is gone'}</b>
                  </Link>{' '}
                  · {x.says}
                </li>
              ))}
            </Stack>
            <More list={refused} />
          </Panel>
        )}
      </Stack>
    </Box>
  );
}
