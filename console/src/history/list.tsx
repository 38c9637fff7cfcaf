import { Box, Button, Stack, Text } from '@chakra-ui/react';
import { useInfiniteQuery, useMutation } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, ask, type HistoryEntry } from '../api/client';
import { date, moment } from '../ui/dates';
import { Loading, Nothing, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';
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
  'people.change': 'changed parts in',
  'people.remove': 'took people out of',
  'people.join': 'came into',
  'people.invite': 'invited people into',
  'people.import': 'imported people into the',
  'request.make': 'asked',
  'request.approve': 'approved a request to',
  'request.decline': 'declined a request to',
  'request.withdraw': 'withdrew a request to',
  'invitation.accept': 'accepted an invitation into',
  'invitation.decline': 'declined an invitation into',
  'invitation.call_back': 'called back an invitation into',
  'link.create': 'made a link into',
  'link.call_back': 'called back a link into',
  'standing.set': 'settled something about somebody in',
  'rule.set': 'set the rule of',
  'rule.follow': 'let people come and go by the rule of',
  'rule.delete': 'took the rule away from',
  'naming.change': 'changed the',
  'start.save': 'saved the starting point',
  'start.delete': 'deleted the starting point',
  'person.create': 'put into the directory:',
  'person.change': 'changed the entry of',
  'person.depart': 'marked as departed:',
  'person.return': 'marked as returned:',
  'person.password_link': 'mailed a link to choose a password to',
  'person.password': 'chose a new password for',
  'post.approve': 'approved a post of',
  'post.decline': 'declined a post of',
  'notice.send': 'sent a notice about',
  'expiry.change': 'changed the',
  'token.create': 'made the token',
  'token.revoke': 'revoked the token',
};

/** HistoryList lists changes, of one group or of the workspace, newest first. */
export function HistoryList({ group, person }: { group?: string; person?: string }) {
  const history = useInfiniteQuery({
    queryKey: ['history', group, person],
    initialPageParam: '',
    queryFn: ({ pageParam }) => {
      const query = { cursor: pageParam, limit: 50 };
      if (person) return ask(api.GET('/api/v1/people/{ref}/history', { params: { path: { ref: person }, query } }));
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

/** PutBack puts those back whom an entry took out. */
function PutBack({ entry: e }: { entry: HistoryEntry }) {
  const shown = e.changes.filter((c) => c.to === null && c.field.includes('@')).length;
  const all = Number(e.changes.find((c) => c.field === 'people')?.to ?? shown); // of many, the first are shown
  const back = useMutation({
    mutationFn: () =>
      ask(
        api.POST('/api/v1/groups/{ref}/members', {
          params: { path: { ref: e.group_id ?? '' } },
          body: { list: { taken_out_by: e.id }, quiet: true },
        }),
      ),
    onSuccess: (r) =>
      toaster.create({
        type: 'success',
        title: `${r.added} put back`,
        description: r.results.find((x) => x.says)?.says,
      }),
    onError: (err) => toaster.create({ type: 'error', title: 'Nobody was put back', description: err.message }),
  });
  if (shown === 0) return null;
  return (
    <Button
      size="2xs"
      mt="1"
      variant="outline"
      colorPalette="gray"
      loading={back.isPending}
      onClick={() => back.mutate()}
    >
      Put {all === 1 ? 'them' : `these ${all}`} back
    </Button>
  );
}

function Entry({ entry: e, link }: { entry: HistoryEntry; link: boolean }) {
  const subject =
    link && e.group_id && e.subject.includes('@') && e.action !== 'group.purge' && !e.action.startsWith('post.') ? (
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
        {e.action === 'people.remove' && e.group_id && <PutBack entry={e} />}
        {e.changes.length > 8 && <Text color="fg.muted">and {e.changes.length - 8} more</Text>}
      </Box>
    </Box>
  );
}
