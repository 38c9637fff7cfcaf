import { Box, Button, HStack, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, ask, type HistoryEntry } from '../api/client';
import { inWords, moment, plural } from '../lib/dates';
import { subjects, useChange } from '../lib/use-change';
import { useList } from '../lib/use-list';
import { Loading, More, Nothing, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';

/** HistoryList lists changes of one group or of one person, newest first. */
export function HistoryList({ group, person }: { group?: string; person?: string }) {
  const list = useList({
    key: ['history', group, person],
    read: (_, cursor) => {
      const query = { cursor, limit: 50 };
      return person
        ? ask(api.GET('/api/v1/people/{ref}/history', { params: { path: { ref: person }, query } }))
        : ask(api.GET('/api/v1/groups/{ref}/history', { params: { path: { ref: group ?? '' }, query } }));
    },
  });
  return <HistoryEntries list={list} link={!group} />;
}

/** HistoryEntries are the entries of a list of changes. */
export function HistoryEntries({ list, link }: { list: ReturnType<typeof useList<HistoryEntry>>; link: boolean }) {
  if (list.error) return <Trouble error={list.error} retry={list.retry} />;
  if (!list.loaded) return <Loading what="the history" />;
  if (list.rows.length === 0)
    return <Nothing title={list.filtered ? 'No entry matches.' : 'Nothing has changed yet.'} />;
  return (
    <Panel>
      <Stack as="ol" gap="0" listStyleType="none">
        {list.rows.map((e) => (
          <Entry key={e.id} entry={e} link={link} />
        ))}
      </Stack>
      <More list={list} words="Show earlier changes" />
    </Panel>
  );
}

function Entry({ entry: e, link }: { entry: HistoryEntry; link: boolean }) {
  const [open, setOpen] = useState(false);
  return (
    <Box
      as="li"
      display="grid"
      gridTemplateColumns={{ base: 'minmax(0, 1fr)', md: '10rem 1fr auto' }}
      gap="1"
      borderBottomWidth="1px"
      py="2.5"
      fontSize="sm"
    >
      <Text color="fg.muted">{moment(e.at)}</Text>
      <Box minW="0">
        <Text overflowWrap="anywhere">{e.says}</Text>
        {open && <Details entry={e} link={link} />}
      </Box>
      <Button
        size="2xs"
        variant="ghost"
        colorPalette="gray"
        alignSelf="start"
        aria-expanded={open}
        aria-label={`${open ? 'Less' : 'More'} about: ${e.says}`}
        onClick={() => setOpen(!open)}
      >
        {open ? 'Less' : 'More'}
      </Button>
    </Box>
  );
}

/** Details says what changed from what to what, who was affected, and how it can be undone. */
function Details({ entry: e, link }: { entry: HistoryEntry; link: boolean }) {
  const path = { entry: e.id };
  const affected = useQuery({
    queryKey: ['history', 'affected', e.id],
    queryFn: () => ask(api.GET('/api/v1/history/{entry}/affected', { params: { path, query: { limit: 20 } } })),
  });
  const who = affected.data?.items ?? [];
  const more = (affected.data?.total ?? 0) - who.length;
  return (
    <Stack gap="1" mt="1" color="fg.muted">
      {link && e.group && e.kind !== 'group.purge' && (
        <Text>
          Group: <Link to={`/groups/${e.group_id}`}>{e.group.name}</Link>
        </Text>
      )}
      {e.changes.map((c, i) => (
        <Text key={i} overflowWrap="anywhere">
          {c.label}: {inWords(c.from)} → {inWords(c.to)}
          {c.says && ` · ${c.says}`}
        </Text>
      ))}
      {who.length > 0 && (
        <Text overflowWrap="anywhere">
          {plural(affected.data?.total ?? 0, 'was affected', 'were affected')}:{' '}
          {who
            .map((x) => (x.name || x.address) + (x.was || x.now ? ` (${x.was || '–'} → ${x.now || '–'})` : ''))
            .join(', ')}
          {more > 0 && ` and ${more.toLocaleString('en-GB')} more`}
        </Text>
      )}
      <Text>
        {e.undo.possible ? 'To undo it: ' : "It can't be undone. "}
        {e.undo.says}
      </Text>
      {e.kind === 'groups.change' && (
        <Text>
          <Link to={`/changes/${e.change_id}`}>What became of each group</Link>
        </Text>
      )}
      {e.undo.possible && <Undo entry={e} />}
    </Stack>
  );
}

/** Undo shows what taking an entry back would do, and does it. */
function Undo({ entry: e }: { entry: HistoryEntry }) {
  const [open, setOpen] = useState(false);
  const params = { path: { entry: e.id } };
  const look = useQuery({
    queryKey: ['history', 'undo', e.id],
    enabled: open,
    gcTime: 0,
    retry: false,
    queryFn: () => ask(api.POST('/api/v1/history/{entry}/undo/preview', { params })),
  });
  const undo = useChange(subjects, () => ask(api.POST('/api/v1/history/{entry}/undo', { params })), {
    onSuccess: (u) => {
      setOpen(false);
      toaster.create({ type: 'success', title: 'Undone', description: u.says });
    },
  });
  if (!open)
    return (
      <Button size="2xs" alignSelf="start" variant="outline" colorPalette="gray" onClick={() => setOpen(true)}>
        Undo…
      </Button>
    );
  const lines = look.data?.sample ?? [];
  const faults = [...(look.data?.problems ?? []), ...(look.data?.warnings ?? [])];
  return (
    <Stack gap="1" borderWidth="1px" borderRadius="md" p="2" role="group" aria-label={`Undo: ${e.says}`}>
      {look.isPending && <Loading what="what it would do" />}
      <Trouble error={undo.error ?? look.error} />
      {look.data?.says && <Text>{look.data.says}</Text>}
      {look.data?.effects.map((x, i) => (
        <Text key={i} overflowWrap="anywhere">
          {inWords(x.field.replaceAll('_', ' '))}
          {x.from || x.to ? `: ${inWords(x.from ?? '')} → ${inWords(x.to ?? '')}` : ''}
          {x.says && ` · ${x.says}`}
        </Text>
      ))}
      {lines.slice(0, 10).map((l, i) => (
        <Text key={i} overflowWrap="anywhere">
          {l.name || l.address || l.given}
          {l.from !== l.to && ` (${l.from || '–'} → ${l.to || '–'})`}
          {l.says && `: ${l.says}`}
        </Text>
      ))}
      {lines.length > 10 && <Text>and {(lines.length - 10).toLocaleString('en-GB')} more</Text>}
      {faults.map((x, i) => (
        <Text key={i}>
          <span className="warn">Mind</span> {x.says}
        </Text>
      ))}
      <HStack>
        <Button
          size="2xs"
          colorPalette="ivy"
          disabled={!look.data}
          loading={undo.isPending}
          onClick={() => undo.mutate()}
        >
          Undo it
        </Button>
        <Button size="2xs" variant="ghost" colorPalette="gray" onClick={() => setOpen(false)}>
          Leave it
        </Button>
      </HStack>
    </Stack>
  );
}
