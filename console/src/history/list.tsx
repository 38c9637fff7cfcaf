import { Box, Button, Stack, Text } from '@chakra-ui/react';
import { useInfiniteQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, ask, type HistoryEntry } from '../api/client';
import { date, moment } from '../ui/dates';
import { Loading, Nothing, Panel, Trouble } from '../ui/parts';
import { labels, questions } from '../ui/words';

const actions: Record<string, string> = {
  'group.create': 'created',
  'group.change': 'changed',
  'group.renew': 'renewed',
  'group.retire': 'retired',
  'group.restore': 'restored',
  'group.lapse': 'let lapse',
  'group.purge': 'purged',
  'policy.change': 'changed the reach of',
  'people.add': 'added people to',
  'people.change': 'changed the part of',
  'people.remove': 'removed',
  'post.approve': 'approved a post of',
  'post.decline': 'declined a post of',
  'notice.send': 'sent a notice about',
  'expiry.change': 'changed the',
  'token.create': 'made the token',
  'token.revoke': 'revoked the token',
};

/** HistoryList lists changes, of one group or of the workspace, newest first. */
export function HistoryList({ group }: { group?: string }) {
  const history = useInfiniteQuery({
    queryKey: ['history', group],
    initialPageParam: '',
    queryFn: ({ pageParam }) => {
      const query = { cursor: pageParam, limit: 50 };
      return group
        ? ask(api.GET('/api/v1/groups/{ref}/history', { params: { path: { ref: group }, query } }))
        : ask(api.GET('/api/v1/history', { params: { query } }));
    },
    getNextPageParam: (last) => last.next || undefined,
  });
  if (history.error) return <Trouble error={history.error} retry={() => void history.refetch()} />;
  if (!history.data) return <Loading what="the history" />;
  const rows = history.data.pages.flatMap((p) => p.items);
  if (rows.length === 0) return <Nothing title="Nothing has changed yet." />;
  return (
    <Panel>
      <Stack as="ol" gap="0" listStyleType="none">
        {rows.map((e) => (
          <Entry key={e.id} entry={e} link={!group} />
        ))}
      </Stack>
      {history.hasNextPage && (
        <Button
          mt="3"
          size="sm"
          variant="outline"
          colorPalette="gray"
          loading={history.isFetchingNextPage}
          onClick={() => void history.fetchNextPage()}
        >
          Show earlier changes
        </Button>
      )}
    </Panel>
  );
}

const iso = /^\d{4}-\d\d-\d\dT/;

function show(v: unknown): string {
  if (v === null || v === undefined || v === '') return '–';
  if (Array.isArray(v)) return v.join(', ');
  return typeof v === 'string' && iso.test(v) ? date(v) : String(v);
}

function Entry({ entry: e, link }: { entry: HistoryEntry; link: boolean }) {
  const subject =
    link && e.action.startsWith('group.') && e.action !== 'group.purge' ? (
      <Link to={`/groups/${e.subject}`}>{e.subject}</Link>
    ) : (
      e.subject
    );
  return (
    <Box
      as="li"
      display="grid"
      gridTemplateColumns={{ base: 'minmax(0, 1fr)', md: '10rem 1fr' }}
      gap="1"
      borderBottomWidth="1px"
      py="2.5"
      fontSize="sm"
    >
      <Text color="fg.muted">{moment(e.at)}</Text>
      <Box minW="0">
        <Text>
          <b>{e.actor}</b> {actions[e.action] ?? e.action} <b>{subject}</b>
        </Text>
        {e.changes.slice(0, 8).map((c, i) => (
          <Text key={i} color="fg.muted" overflowWrap="anywhere">
            {questions[c.field] ?? labels[c.field] ?? c.field.replaceAll('_', ' ')}: {show(c.from)} → {show(c.to)}
            {c.says && ` · ${c.says}`}
          </Text>
        ))}
        {e.changes.length > 8 && <Text color="fg.muted">and {e.changes.length - 8} more</Text>}
      </Box>
    </Box>
  );
}
