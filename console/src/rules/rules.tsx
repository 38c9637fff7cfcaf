import { Box, Button, Grid, Heading, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useWatch } from 'react-hook-form';
import { Link } from 'react-router';
import { api, ask, type Naming } from '../api/client';
import { useDraft } from '../lib/use-draft';
import { useSettled } from '../lib/use-settled';
import { useMe } from '../session/me';
import { PeoplePicker } from '../shared/people-picker';
import { Attributes } from './attributes';
import { Areas } from './areas';
import { Ceilings } from './ceilings';
import { Departures } from './departures';
import { Domains } from './domains';
import { ExternalRules } from './externals';
import { PublicPages } from './public';
import { Protection } from './protection';
import { StartingPoints } from './starting';
import { Choice, Fact, Loading, Moved, Panel, Trouble } from '../ui/parts';
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
          {naming.data ? <Names saved={naming.data} /> : <Loading what="the rules" />}
          <StartingPoints />
          <ExternalRules />
          <PublicPages />
          <Areas />
          <Departures />
        </Stack>
        <Stack gap="5">
          <TryName />
          <Ceilings />
          <Domains />
          <Attributes />
          <Protection />
        </Stack>
      </Grid>
    </Box>
  );
}

type Words = Pick<Naming, 'creators' | 'pattern' | 'patterns' | 'words' | 'beginnings'>;

function Names({ saved }: { saved: Naming }) {
  const may = useMe().may.includes('change_naming');
  const { creators, pattern, patterns, words, beginnings } = saved;
  const draft = useDraft<Words, Naming>({
    saved: { creators, pattern, patterns: patterns ?? [], words, beginnings },
    version: saved.version ?? 0,
    touches: ['naming', 'me'],
    save: (body, tag) => ask(api.PUT('/api/v1/naming', { body, params: { header: { 'If-Match': tag } } })),
    onSaved: () => toaster.create({ type: 'success', title: 'The rules of naming are in force' }),
  });
  const v = useWatch({ control: draft.form.control }) as Words;
  const settled = useSettled(JSON.stringify(v), 250);
  const preview = useQuery({
    queryKey: ['naming', 'preview', settled],
    enabled: may && draft.dirty,
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.POST('/api/v1/naming/preview', { body: JSON.parse(settled) as Naming })),
  });
  const p = preview.data;
  const set = <F extends keyof Words>(field: F, value: Words[F]) =>
    draft.form.setValue(field, value as never, { shouldDirty: true });
  return (
    <Panel title="Making and naming groups">
      <Stack gap="4">
        <Moved draft={draft} />
        <Choice
          label="Who may create groups"
          value={v.creators}
          disabled={!may}
          choices={[
            ['administrators', 'Administrators only'],
            ['workspace', 'Everyone in the workspace'],
          ]}
          onChange={(x) => set('creators', x as Words['creators'])}
        />
        <Text fontSize="sm" color="fg.muted">
          The rules below bind everybody but administrators. In a pattern {'{name}'} stands for what is typed;{' '}
          {'{department}'}, {'{locality}'} and other fields are filled in from whoever makes the group, and fall away
          where they are empty.
        </Text>
        <Box as="label" fontSize="sm">
          <Text fontWeight="600" mb="1">
            Name pattern
          </Text>
          <Input size="sm" readOnly={!may} placeholder="{name} ({locality})" {...draft.register('pattern')} />
        </Box>
        <Others list={v.patterns ?? []} may={may} set={(x) => set('patterns', x)} />
        <Tags
          label="Reserved words"
          placeholder="A word, then Enter"
          help="No name and no address may have them, as whole words, in any case and script."
          list={v.words}
          onChange={(x) => may && set('words', x)}
        />
        <Tags
          label="Reserved beginnings"
          placeholder="A word, then Enter"
          help="Kept for official groups."
          list={v.beginnings}
          onChange={(x) => may && set('beginnings', x)}
        />
        {draft.dirty && p && (
          <Box borderLeftWidth="4px" borderColor="brass.solid" pl="3" fontSize="sm" aria-live="polite">
            <Text fontWeight="600">{p.says}</Text>
            {p.problems
              .filter((x) => x.says !== p.says)
              .map((x) => (
                <Text key={x.field + x.says} className="warn">
                  {x.says}
                </Text>
              ))}
            {p.sample.length > 0 && (
              <Box as="details">
                <summary>Which they are</summary>
                <Stack as="ul" gap="0" maxH="14rem" overflow="auto" listStyleType="none">
                  {p.sample.map((g) => (
                    <li key={g.address}>
                      <Link to={`/groups/${g.address}`}>
                        <u>{g.name}</u>
                      </Link>
                      : {g.says}
                    </li>
                  ))}
                </Stack>
              </Box>
            )}
          </Box>
        )}
        <Trouble error={preview.error ?? draft.error} />
        {may && (
          <HStack>
            <Button
              size="sm"
              colorPalette="ivy"
              disabled={!draft.dirty || !!preview.error || !!p?.problems.length}
              loading={draft.saving}
              onClick={() => void draft.save()}
            >
              Put these rules in force
            </Button>
            {draft.dirty && (
              <Button size="sm" variant="ghost" colorPalette="gray" onClick={draft.drop}>
                Drop the draft
              </Button>
            )}
          </HStack>
        )}
      </Stack>
    </Panel>
  );
}

/** Others are patterns for some groups, which go before the one for all. */
function Others({
  list,
  may,
  set,
}: {
  list: NonNullable<Naming['patterns']>;
  may: boolean;
  set: (x: NonNullable<Naming['patterns']>) => void;
}) {
  const put = (i: number, part: Partial<NonNullable<Naming['patterns']>[number]>) =>
    set(list.map((x, j) => (j === i ? { ...x, ...part } : x)));
  return (
    <Box fontSize="sm">
      {list.length > 0 && (
        <Text fontWeight="600" mb="1">
          Other patterns, for the groups that a filter matches: the first holds
        </Text>
      )}
      <Stack gap="2">
        {list.map((x, i) => (
          <HStack key={i} align="start">
            <Input
              size="sm"
              readOnly={!may}
              aria-label={`Groups of pattern ${i + 1}`}
              placeholder='domain eq "crew.merrowline.example"'
              value={x.filter}
              onChange={(e) => put(i, { filter: e.target.value })}
            />
            <Input
              size="sm"
              readOnly={!may}
              aria-label={`Pattern ${i + 1}`}
              placeholder="{name} ({department})"
              value={x.pattern}
              onChange={(e) => put(i, { pattern: e.target.value })}
            />
            {may && (
              <Button
                size="sm"
                variant="ghost"
                colorPalette="gray"
                aria-label={`Take pattern ${i + 1} out`}
                onClick={() => set(list.filter((_, j) => j !== i))}
              >
                ×
              </Button>
            )}
          </HStack>
        ))}
        {may && (
          <Button
            size="xs"
            alignSelf="start"
            variant="outline"
            colorPalette="gray"
            onClick={() => set([...list, { filter: '', pattern: '' }])}
          >
            Another pattern for some groups
          </Button>
        )}
      </Stack>
    </Box>
  );
}

/** TryName says what a group would be called if somebody else made it. */
function TryName() {
  const [name, setName] = useState('');
  const [as, setAs] = useState<{ address: string; name: string } | null>(null);
  const settled = useSettled(name, 150);
  const proposal = useQuery({
    queryKey: ['naming', 'proposal', settled, as?.address],
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
