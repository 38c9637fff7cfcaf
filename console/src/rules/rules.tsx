import { Box, Button, Grid, Heading, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, ask, type Naming, type StartingPoint } from '../api/client';
import { useMe } from '../session/me';
import { plural } from '../ui/dates';
import { GroupField } from '../ui/many';
import { Choice, Fact, Loading, Panel, Trouble } from '../ui/parts';
import { PeoplePicker } from '../ui/people-picker';
import { useSettled } from '../ui/settled';
import { Tags } from '../ui/tags';
import { toaster } from '../ui/toaster';

/** Rules holds the rules of the workspace: who makes groups, what they may be called, what they begin from. */
export default function Rules() {
  const naming = useQuery({ queryKey: ['naming'], queryFn: () => ask(api.GET('/api/v1/naming')) });
  return (
    <Box p={{ base: 3, md: 5 }} maxW="80rem" mx="auto">
      <Heading as="h1" size="2xl" mb="4">
        Rules of the workspace
      </Heading>
      <Grid templateColumns={{ base: 'minmax(0, 1fr)', lg: '3fr 2fr' }} gap="5" alignItems="start">
        <Stack gap="5">
          <Trouble error={naming.error} retry={() => void naming.refetch()} />
          {naming.data ? <Names key={naming.data.version} saved={naming.data} /> : <Loading what="the rules" />}
          <Starts />
        </Stack>
        <TryName />
      </Grid>
    </Box>
  );
}

function Names({ saved }: { saved: Naming }) {
  const me = useMe();
  const may = me.may.includes('change_naming');
  const [draft, setDraft] = useState(saved);
  const settled = useSettled(draft, 250);
  const dirty = JSON.stringify(draft) !== JSON.stringify(saved);
  const effect = useQuery({
    queryKey: ['naming-effect', settled],
    enabled: may && dirty,
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.POST('/api/v1/naming/effect', { body: settled })),
  });
  const save = useMutation({
    mutationFn: () =>
      ask(api.PUT('/api/v1/naming', { body: draft, params: { header: { 'If-Match': `"${saved.version}"` } } })),
    onSuccess: () => toaster.create({ type: 'success', title: 'The rules of naming are in force' }),
  });
  const set = (part: Partial<Naming>) => setDraft({ ...draft, ...part });
  return (
    <Panel title="Making and naming groups">
      <Stack gap="4">
        <Choice
          label="Who may create groups"
          value={draft.creators}
          disabled={!may}
          choices={[
            ['administrators', 'Administrators only'],
            ['workspace', 'Everyone in the workspace'],
          ]}
          onChange={(v) => set({ creators: v as Naming['creators'] })}
        />
        <Text fontSize="sm" color="fg.muted">
          The rules below bind everybody but administrators. In a prefix or suffix, {'{department}'}, {'{locality}'} and
          other fields are filled in from whoever makes the group.
        </Text>
        <Grid templateColumns={{ base: '1fr', md: '1fr 1fr' }} gap="4">
          {(['prefix', 'suffix'] as const).map((f) => (
            <Box as="label" key={f} fontSize="sm">
              <Text fontWeight="600" mb="1">
                {f === 'prefix' ? 'Put before names' : 'Put after names'}
              </Text>
              <Input
                size="sm"
                name={f}
                readOnly={!may}
                placeholder={f === 'prefix' ? '{department}: ' : ' ({locality})'}
                value={draft[f]}
                onChange={(e) => set({ [f]: e.target.value })}
              />
            </Box>
          ))}
        </Grid>
        <Tags
          label="Reserved words"
          placeholder="A word, then Enter"
          help="No name and no address may have them, as whole words, in any case and script."
          list={draft.words}
          onChange={(words) => may && set({ words })}
        />
        <Tags
          label="Reserved beginnings"
          placeholder="A word, then Enter"
          help="Kept for official groups."
          list={draft.beginnings}
          onChange={(beginnings) => may && set({ beginnings })}
        />
        {dirty && effect.data && (
          <Box borderLeftWidth="4px" borderColor="brass.solid" pl="3" fontSize="sm" aria-live="polite">
            <Text fontWeight="600">{effect.data.says}</Text>
            {effect.data.sample.length > 0 && (
              <Box as="details">
                <summary>Which they are</summary>
                <Stack as="ul" gap="0" maxH="14rem" overflow="auto" listStyleType="none">
                  {effect.data.sample.map((b) => (
                    <li key={b.address}>
                      <Link to={`/groups/${b.address}`}>
                        <u>{b.name}</u>
                      </Link>
                      : {b.says.join(' ')}
                    </li>
                  ))}
                </Stack>
              </Box>
            )}
          </Box>
        )}
        <Trouble error={effect.error ?? save.error} />
        {may && (
          <HStack>
            <Button
              size="sm"
              colorPalette="ivy"
              disabled={!dirty || !!effect.error}
              loading={save.isPending}
              onClick={() => save.mutate()}
            >
              Put these rules in force
            </Button>
            {dirty && (
              <Button size="sm" variant="ghost" colorPalette="gray" onClick={() => setDraft(saved)}>
                Drop the draft
              </Button>
            )}
          </HStack>
        )}
      </Stack>
    </Panel>
  );
}

/** TryName says what a group would be called if somebody else made it. */
function TryName() {
  const [name, setName] = useState('');
  const [as, setAs] = useState<{ address: string; name: string } | null>(null);
  const settled = useSettled(name, 150);
  const proposal = useQuery({
    queryKey: ['proposal', settled, as?.address],
    enabled: settled.trim() !== '',
    placeholderData: keepPreviousData,
    queryFn: () =>
      ask(
        api.GET('/api/v1/address-proposals', {
          params: { query: { name: settled, ...(as ? { creator: as.address } : {}) } },
        }),
      ),
  });
  const p = name.trim() ? proposal.data : undefined;
  return (
    <Panel title="Try a name">
      <Stack gap="3">
        <Input
          aria-label="Name to try"
          name="try-name"
          placeholder="Lost Keys"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        {as ? (
          <Button size="xs" alignSelf="start" variant="subtle" colorPalette="ivy" onClick={() => setAs(null)}>
            as {as.name} ×
          </Button>
        ) : (
          <PeoplePicker
            label="As somebody else"
            placeholder="Begin to type a name"
            taken={[]}
            onPick={(address, n) => setAs({ address, name: n })}
          />
        )}
        <Trouble error={proposal.error} />
        {p && (
          <Stack as="dl" gap="1" aria-live="polite">
            <Fact name="Name">{p.name}</Fact>
            <Fact name="Address">{p.address || '–'}</Fact>
            <Fact name="Outcome">
              <span className={p.status === 'free' ? '' : 'warn'}>{p.says}</span>
            </Fact>
            {p.notes.map((n) => (
              <Fact key={n} name="Note">
                {n}
              </Fact>
            ))}
          </Stack>
        )}
      </Stack>
    </Panel>
  );
}

function Starts() {
  const me = useMe();
  const may = me.may.includes('change_starting_points');
  const list = useQuery({ queryKey: ['starting-points'], queryFn: () => ask(api.GET('/api/v1/starting-points')) });
  const [title, setTitle] = useState('');
  const [about, setAbout] = useState('');
  const [from, setFrom] = useState('');
  const save = useMutation({
    mutationFn: () =>
      ask(
        api.PUT('/api/v1/starting-points/{name}', {
          params: {
            path: {
              name:
                title
                  .toLowerCase()
                  .normalize('NFKD')
                  .replace(/[^a-z0-9]+/g, '-')
                  .replace(/^-|-$/g, '') || 'start',
            },
          },
          body: { title, about, from_group: from, policy: {} },
        }),
      ),
    onSuccess: (s) => {
      setTitle('');
      setAbout('');
      setFrom('');
      toaster.create({ type: 'success', title: `${s.title} can be begun from` });
    },
  });
  const remove = useMutation({
    mutationFn: (s: StartingPoint) =>
      ask(api.DELETE('/api/v1/starting-points/{name}', { params: { path: { name: s.name } } })),
  });
  return (
    <Panel title="Starting points">
      <Stack gap="3">
        <Trouble error={list.error ?? remove.error} />
        <Stack as="ul" gap="2" listStyleType="none">
          {list.data?.map((s) => (
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
                <Button
                  size="xs"
                  variant="outline"
                  colorPalette="gray"
                  aria-label={`Delete ${s.title}`}
                  onClick={() => remove.mutate(s)}
                >
                  Delete
                </Button>
              )}
            </HStack>
          ))}
        </Stack>
        {may && (
          <Box borderTopWidth="1px" pt="3">
            <Text fontWeight="600" fontSize="sm" mb="2">
              Make one from a group
            </Text>
            <Stack gap="2">
              <GroupField onPick={setFrom} label="Group to take it from" />
              <Input
                size="sm"
                aria-label="Title"
                placeholder="What people see, such as Seasonal route"
                value={title}
                onChange={(e) => setTitle(e.target.value)}
              />
              <Input
                size="sm"
                aria-label="What it is for"
                placeholder="What it is for"
                value={about}
                onChange={(e) => setAbout(e.target.value)}
              />
              <Trouble error={save.error} />
              <Button
                size="sm"
                alignSelf="start"
                variant="outline"
                colorPalette="ivy"
                disabled={from === '' || title === ''}
                loading={save.isPending}
                onClick={() => save.mutate()}
              >
                Make the starting point
              </Button>
            </Stack>
          </Box>
        )}
        {list.data && (
          <Text fontSize="sm" color="fg.muted">
            {plural(list.data.length, 'starting point')}
          </Text>
        )}
      </Stack>
    </Panel>
  );
}
