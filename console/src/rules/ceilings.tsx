import { Box, Button, Field, Grid, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, ask, type Ceilings as Saved } from '../api/client';
import { useChange } from '../lib/use-change';
import { useSettled } from '../lib/use-settled';
import { useMe } from '../session/me';
import { Choice, Loading, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';

type New = { setting: string; at_most: string; filter?: string; reason?: string };

const settings = [
  ['post', 'write to it'],
  ['find', 'find it'],
  ['see_people', 'see who is in it'],
  ['read', 'read its archive'],
  ['join.audience', 'come in by themselves or by asking'],
  ['add_people', 'add people to it'],
  ['write_owners', 'write to its owners'],
  ['speak_as', 'write as the group'],
  ['speak_for', 'write for the group'],
] as const;

const audiences = [
  ['workspace', 'People of the workspace'],
  ['members', 'Its members'],
  ['moderators', 'Its owners and moderators'],
  ['owners', 'Its owners'],
  ['nobody', 'Nobody'],
] as const;

const said = (list: readonly (readonly [string, string])[], value: string) =>
  list.find(([v]) => v === value)?.[1] ?? value;

const key = (c: New) => `${c.setting} ${c.filter ?? ''}`;

/** Ceilings are how far groups may go: all, or those that a filter names. */
export function Ceilings() {
  const saved = useQuery({ queryKey: ['naming', 'ceilings'], queryFn: () => ask(api.GET('/api/v1/ceilings')) });
  if (saved.error) return <Trouble error={saved.error} retry={() => void saved.refetch()} />;
  return saved.data ? <List saved={saved.data} /> : <Loading what="the ceilings" />;
}

const set = (ceilings: New[], version: number) =>
  ask(
    api.PUT('/api/v1/ceilings', {
      body: { ceilings } as never,
      params: { header: { 'If-Match': `"${version}"` } },
    }),
  );

function List({ saved }: { saved: Saved }) {
  const may = useMe().may.includes('change_ceilings');
  const kept: New[] = saved.ceilings.map(({ setting, at_most, filter, reason }) => ({
    setting,
    at_most,
    filter,
    reason,
  }));
  const [next, setNext] = useState<New>({ setting: 'post', at_most: 'workspace' });
  const [open, setOpen] = useState(false);
  const [change, setChange] = useState('');
  const all = [...kept.filter((c) => key(c) !== key(next)), next];
  const asked = useSettled(JSON.stringify(all), 200);
  const preview = useQuery({
    queryKey: ['naming', 'ceilings', 'preview', saved.version, asked],
    enabled: open,
    placeholderData: keepPreviousData,
    queryFn: () =>
      ask(api.POST('/api/v1/ceilings/preview', { body: { ceilings: JSON.parse(asked) as New[] } as never })),
  });
  const save = useChange<New[], Saved>(['naming', 'group', 'bulk'], (list) => set(list, saved.version), {
    onSuccess: (r) => {
      setOpen(false);
      setNext({ setting: 'post', at_most: 'workspace' });
      setChange(r.change ?? '');
      toaster.create({
        type: 'success',
        title: r.change ? 'The ceilings are set; groups above come down' : 'The ceilings are set',
      });
    },
    onError: (e) => toaster.create({ type: 'error', title: 'The ceilings stay as they were', description: e.message }),
  });
  return (
    <Panel title="Ceilings">
      <Stack gap="4">
        <Text fontSize="sm" color="fg.muted">
          How far any group may go. Nobody can choose more than a ceiling lets them, owners and administrators alike.
        </Text>
        {kept.length === 0 && <Text fontSize="sm">There is none: groups choose as they like.</Text>}
        <Stack as="ul" gap="2" listStyleType="none" fontSize="sm">
          {saved.ceilings.map((c) => (
            <Box as="li" key={key(c)}>
              <HStack justify="space-between" align="start">
                <Box>
                  <Text>
                    <b>{said(audiences, c.at_most)}</b>, at most, may {said(settings, c.setting)}
                    {c.filter && (
                      <>
                        {' '}
                        where <code>{c.filter}</code>
                      </>
                    )}
                    .
                  </Text>
                  <Text color="fg.muted">
                    {c.reason && `${c.reason} `}Set by {c.set_by}.
                  </Text>
                </Box>
                {may && (
                  <Button
                    size="2xs"
                    variant="ghost"
                    colorPalette="gray"
                    aria-label={`Lift the ceiling on who may ${said(settings, c.setting)}`}
                    loading={save.isPending}
                    onClick={() => save.mutate(kept.filter((k) => key(k) !== key(c)))}
                  >
                    Lift
                  </Button>
                )}
              </HStack>
            </Box>
          ))}
        </Stack>
        {change && (
          <Text fontSize="sm">
            <Link to={`/changes/${change}`}>How the groups come down</Link>
          </Text>
        )}
        {may && !open && (
          <Button size="sm" variant="outline" colorPalette="gray" alignSelf="start" onClick={() => setOpen(true)}>
            Set a ceiling
          </Button>
        )}
        {may && open && (
          <Stack gap="3" borderTopWidth="1px" pt="3">
            <Grid templateColumns={{ base: '1fr', md: '1fr 1fr' }} gap="3">
              <Choice
                label="Who may"
                value={next.setting}
                choices={settings}
                onChange={(setting) => setNext({ ...next, setting })}
              />
              <Choice
                label="At most"
                value={next.at_most}
                choices={audiences}
                onChange={(at_most) => setNext({ ...next, at_most })}
              />
            </Grid>
            <Field.Root>
              <Field.Label>For which groups</Field.Label>
              <Input
                size="sm"
                name="ceiling-filter"
                placeholder={'All, or such as: domain eq "crew.merrowline.example"'}
                value={next.filter ?? ''}
                onChange={(e) => setNext({ ...next, filter: e.target.value })}
              />
              <Field.HelperText>A filter over domain and starting_point.</Field.HelperText>
            </Field.Root>
            <Field.Root>
              <Field.Label>Why</Field.Label>
              <Input
                size="sm"
                maxLength={300}
                placeholder="Told to whoever would go further"
                value={next.reason ?? ''}
                onChange={(e) => setNext({ ...next, reason: e.target.value })}
              />
            </Field.Root>
            <Trouble error={preview.error} />
            {preview.data && !preview.error && (
              <Box fontSize="sm" aria-live="polite">
                <Text fontWeight="600">{preview.data.says}</Text>
                {preview.data.sample.slice(0, 6).map((l) => (
                  <Text key={l.address} color="fg.muted">
                    {l.name}: {l.says}
                  </Text>
                ))}
                {preview.data.total > 6 && <Text color="fg.muted">and {preview.data.total - 6} more</Text>}
              </Box>
            )}
            <HStack>
              <Button
                size="sm"
                colorPalette="ivy"
                disabled={!preview.data || !!preview.error || asked !== JSON.stringify(all)}
                loading={save.isPending}
                onClick={() => save.mutate(all)}
              >
                {preview.data && preview.data.total > 0
                  ? `Set it and bring ${preview.data.total} down`
                  : 'Set this ceiling'}
              </Button>
              <Button size="sm" variant="ghost" colorPalette="gray" onClick={() => setOpen(false)}>
                Never mind
              </Button>
            </HStack>
          </Stack>
        )}
      </Stack>
    </Panel>
  );
}
