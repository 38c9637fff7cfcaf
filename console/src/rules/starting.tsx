import { Box, Button, HStack, Input, Stack, Text, Textarea } from '@chakra-ui/react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask, type PolicyPatch, type StartingPoint } from '../api/client';
import { plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useSettled } from '../lib/use-settled';
import { TraitBoxes } from '../groups/settings';
import { useMe } from '../session/me';
import { GroupField } from '../shared/group-field';
import { Faults, patchOf, PolicyEditor, valuesIn, valuesOf, withPrivacy, withValue } from '../shared/policy';
import { Rings } from '../shared/rings';
import { useStartingPoints } from '../shared/starting-points';
import { Loading, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';
import { Differing } from './differing';

/** nameOf makes the name of a starting point from its title. */
const nameOf = (title: string) =>
  title
    .toLowerCase()
    .normalize('NFKD')
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-|-$/g, '') || 'starting-point';

/** StartingPoints are what groups are begun from. */
export function StartingPoints() {
  const may = useMe().may.includes('change_starting_points');
  const list = useStartingPoints();
  const [open, setOpen] = useState<StartingPoint | 'new' | null>(null);
  const remove = useChange(['naming'], (s: StartingPoint) =>
    ask(
      api.DELETE('/api/v1/starting-points/{name}', {
        params: { path: { name: s.name }, header: { 'If-Match': `"${s.version}"` } },
      }),
    ),
  );
  return (
    <Panel title="Starting points">
      <Stack gap="3">
        <Trouble error={list.error ?? remove.error} />
        <Stack as="ul" gap="2" listStyleType="none">
          {list.data?.items.map((s) => (
            <HStack as="li" key={s.name} justify="space-between" align="start">
              <Box fontSize="sm">
                <Text fontWeight="600">
                  {s.title}{' '}
                  {s.built_in && (
                    <Text as="span" color="fg.muted" fontWeight="400">
                      · built in
                    </Text>
                  )}
                </Text>
                <Text>{s.about}</Text>
                <Text color="fg.muted">{s.sentence}</Text>
              </Box>
              {may && !s.built_in && (
                <HStack>
                  <Button
                    size="xs"
                    variant="outline"
                    colorPalette="gray"
                    aria-label={`Change ${s.title}`}
                    onClick={() => setOpen(s)}
                  >
                    Change
                  </Button>
                  <Button
                    size="xs"
                    variant="outline"
                    colorPalette="gray"
                    aria-label={`Delete ${s.title}`}
                    onClick={() => remove.mutate(s)}
                  >
                    Delete
                  </Button>
                </HStack>
              )}
            </HStack>
          ))}
        </Stack>
        <Differing />
        {may && !open && (
          <Button size="sm" alignSelf="start" variant="outline" colorPalette="ivy" onClick={() => setOpen('new')}>
            Make a starting point
          </Button>
        )}
        {open && (
          <Editor
            key={open === 'new' ? '' : open.name}
            start={open === 'new' ? null : open}
            onDone={() => setOpen(null)}
          />
        )}
        {list.data && (
          <Text fontSize="sm" color="fg.muted">
            {plural(list.data.total, 'starting point')}
          </Text>
        )}
      </Stack>
    </Panel>
  );
}

/** Editor says a starting point in sentences, to be made or changed. */
function Editor({ start, onDone }: { start: StartingPoint | null; onDone: () => void }) {
  const [title, setTitle] = useState(start?.title ?? '');
  const [about, setAbout] = useState(start?.about ?? '');
  const [policy, setPolicy] = useState<PolicyPatch>(start?.policy ?? {});
  const [traits, setTraits] = useState(start?.traits ?? []);
  const [welcome, setWelcome] = useState(start?.welcome ?? '');
  const [footer, setFooter] = useState(start?.mail?.footer ?? '');
  const settled = useSettled(JSON.stringify(policy), 100);
  const look = useQuery({
    queryKey: ['naming', 'starting-point', 'look', settled],
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.POST('/api/v1/policy-summaries', { body: JSON.parse(settled) as PolicyPatch })),
  });
  const save = useChange(
    ['naming', 'group'],
    (whole: PolicyPatch) =>
      ask(
        api.PUT('/api/v1/starting-points/{name}', {
          params: {
            path: { name: start?.name ?? nameOf(title) },
            ...(start ? { header: { 'If-Match': `"${start.version}"` } } : {}),
          },
          body: { title, about, policy: whole, traits, welcome, mail: { footer } },
        }),
      ),
    {
      onSuccess: (s) => {
        onDone();
        toaster.create({ type: 'success', title: `${s.title} can be begun from` });
      },
    },
  );
  const take = useChange(
    [],
    (address: string) => ask(api.GET('/api/v1/groups/{ref}', { params: { path: { ref: address } } })),
    {
      onSuccess: (g) => {
        const { policy: questions, join, leave, externals, hold, suspicious, automatic } = g;
        setPolicy({ policy: questions, join, leave, externals, hold, suspicious, automatic });
        setTraits(g.traits);
        setWelcome(g.welcome);
        setFooter(g.mail.footer);
      },
    },
  );
  const s = look.data;
  const values = s ? { ...valuesOf(s), ...valuesIn(policy, s.settings) } : {};
  const choose = (name: string, value: string) => {
    const setting = s?.settings.find((x) => x.name === name);
    if (setting) setPolicy(withValue(policy, setting, value));
  };
  return (
    <Stack gap="4" borderTopWidth="1px" pt="4">
      <Box as="label" fontSize="sm">
        <Text fontWeight="600" mb="1">
          What people see
        </Text>
        <Input
          size="sm"
          name="starting-title"
          maxLength={100}
          placeholder="Seasonal route"
          value={title}
          onChange={(e) => setTitle(e.target.value)}
        />
      </Box>
      <Box as="label" fontSize="sm">
        <Text fontWeight="600" mb="1">
          What it is for
        </Text>
        <Input size="sm" maxLength={500} value={about} onChange={(e) => setAbout(e.target.value)} />
      </Box>
      {!start && <GroupField label="Fill it in as a group is" onPick={(address) => take.mutate(address)} />}
      <Trouble error={take.error ?? look.error} />
      {!s && !look.error && <Loading what="the sentences" />}
      {s && (
        <PolicyEditor
          sentences={s.sentences}
          settings={s.settings}
          privacy={policy.privacy ?? s.privacy}
          values={values}
          was={values}
          onValue={choose}
          onPrivacy={(privacy) => setPolicy(withPrivacy(policy, privacy))}
        />
      )}
      {s && <Rings settings={s.settings} values={values} was={values} onValue={choose} />}
      {s && <Faults contradictions={s.contradictions} warnings={s.warnings} />}
      <TraitBoxes list={traits} onChange={setTraits} />
      <Box as="label" fontSize="sm">
        <Text fontWeight="600" mb="1">
          Said to new members
        </Text>
        <Textarea rows={2} maxLength={2000} value={welcome} onChange={(e) => setWelcome(e.target.value)} />
      </Box>
      <Box as="label" fontSize="sm">
        <Text fontWeight="600" mb="1">
          Below each message
        </Text>
        <Textarea rows={2} maxLength={1000} value={footer} onChange={(e) => setFooter(e.target.value)} />
      </Box>
      <Trouble error={save.error} />
      <HStack>
        <Button
          size="sm"
          colorPalette="ivy"
          disabled={!s || title.trim() === '' || s.contradictions.length > 0 || settled !== JSON.stringify(policy)}
          loading={save.isPending}
          onClick={() => s && save.mutate(patchOf(s.settings, values, {}))}
        >
          {start ? 'Change the starting point' : 'Make the starting point'}
        </Button>
        <Button size="sm" variant="ghost" colorPalette="gray" onClick={onDone}>
          Never mind
        </Button>
      </HStack>
    </Stack>
  );
}
