import {
  Badge,
  Box,
  Button,
  Field,
  Grid,
  Heading,
  HStack,
  Input,
  NativeSelect,
  SimpleGrid,
  Stack,
  Text,
  Textarea,
} from '@chakra-ui/react';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { useEffect, useMemo, useState } from 'react';
import { useNavigate } from 'react-router';
import { api, ask, type NewGroup, type Proposal, Refusal } from '../api/client';
import { useMe } from '../session/me';
import { plural } from '../ui/dates';
import { Many } from '../ui/many';
import { Choice, Trouble } from '../ui/parts';
import { PeoplePicker } from '../ui/people-picker';
import { PolicyEditor } from '../ui/policy';
import { useSettled } from '../ui/settled';
import { Tags } from '../ui/tags';
import { toaster } from '../ui/toaster';
import { Chosen, type Draft, Section, Sheet, Steps, type Who } from './create-sheet';
import { RuleEffectView, RuleField, useRuleEffect } from './rule';
import { languages, TraitBoxes } from './settings';

const kept = 'new-group';
const blank = (domain: string): Draft => ({
  start: '',
  name: '',
  local: null,
  domain,
  aliases: [],
  description: '',
  who: [],
  lists: [],
  policy: {},
  traits: [],
  language: 'en',
  delivery: 'each',
  welcome: '',
  rule: null,
});

function read(domain: string): Draft {
  try {
    return { ...blank(domain), ...JSON.parse(localStorage.getItem(kept) ?? '{}') };
  } catch {
    return blank(domain);
  }
}

const statusWords: Record<Proposal['status'], string> = {
  free: 'free',
  taken: 'taken',
  alike: 'too alike',
  reserved: 'reserved',
  against: 'against a rule',
  invalid: 'not possible',
};

export default function CreateGroup() {
  const me = useMe();
  const navigate = useNavigate();
  const fresh = () => {
    const d = blank(me.domains[0] ?? '');
    // Whoever makes a group for themselves owns it; administrators make them for others.
    if (me.workspace_role !== 'administrator') d.who = [{ address: me.address, name: me.name, role: 'owner' }];
    return d;
  };
  const [draft, setDraft] = useState(() => (localStorage.getItem(kept) ? read(me.domains[0] ?? '') : fresh()));
  const [key] = useState(() => crypto.randomUUID());
  const [many, setMany] = useState(false);
  const change = (part: Partial<Draft>) => setDraft((d) => ({ ...d, ...part }));
  useEffect(() => localStorage.setItem(kept, JSON.stringify(draft)), [draft]);

  const asked = useSettled(draft, 150);
  const proposal = useQuery({
    queryKey: ['proposal', asked.name, asked.local, asked.domain],
    enabled: asked.name.trim() !== '' || asked.local !== null,
    placeholderData: keepPreviousData,
    staleTime: 0,
    queryFn: () =>
      ask(
        api.GET('/api/v1/address-proposals', {
          params: {
            query: {
              name: asked.name,
              domain: asked.domain,
              ...(asked.local === null ? {} : { address: `${asked.local}@${asked.domain}` }),
            },
          },
        }),
      ),
  });
  const picture = useQuery({
    queryKey: ['picture', draft.policy],
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.POST('/api/v1/policy-pictures', { body: draft.policy })),
  });
  const starts = useQuery({ queryKey: ['starting-points'], queryFn: () => ask(api.GET('/api/v1/starting-points')) });
  const effect = useRuleEffect(draft.rule ?? '');
  const alike = useQuery({
    queryKey: ['look-alikes', asked.name, proposal.data?.address, asked.who.map((w) => w.address)],
    enabled: asked.name.trim().length > 2,
    placeholderData: keepPreviousData,
    queryFn: () =>
      ask(
        api.POST('/api/v1/look-alikes', {
          body: { name: asked.name, address: proposal.data?.address ?? '', people: asked.who.map((w) => w.address) },
        }),
      ),
  });
  const owners = draft.who.filter((w) => w.role === 'owner');
  const others = draft.who.filter((w) => w.role !== 'owner');
  const create = useMutation({
    mutationFn: () => {
      const body: NewGroup = {
        name: draft.name,
        description: draft.description,
        owners: owners.map((o) => o.address),
        people: others.map((o) => ({ address: o.address, role: o.role })),
        lists: draft.lists.map((l) => l.list),
        aliases: draft.aliases,
        traits: draft.traits,
        language: draft.language,
        default_delivery: draft.delivery,
        welcome: draft.welcome,
        ...(draft.rule?.trim() ? { rule: draft.rule } : {}),
        ...draft.policy,
      };
      if (draft.local !== null || draft.domain !== me.domains[0])
        body.address = `${draft.local ?? proposal.data?.address.split('@')[0] ?? ''}@${draft.domain}`;
      return ask(api.POST('/api/v1/groups', { body, params: { header: { 'Idempotency-Key': key } } }));
    },
    onSuccess: (g) => {
      localStorage.removeItem(kept);
      toaster.create({
        type: 'success',
        title: `${g.name} is there`,
        description: `Mail to ${g.address} reaches its people from now on.`,
      });
      void navigate(`/groups/${g.address}`);
    },
  });
  const error = create.error instanceof Refusal ? create.error : undefined;
  const taken = useMemo(() => draft.who.map((w) => w.address), [draft.who]);
  const domains = useMemo(() => new Set(me.domains), [me.domains]);
  const external = (address: string) => !domains.has(address.split('@')[1]?.toLowerCase() ?? '');
  const add = (role: Who['role']) => (address: string, name: string) =>
    setDraft((d) =>
      d.who.some((w) => w.address === address) ? d : { ...d, who: [...d.who, { address, name, role }] },
    );

  const outsiders = draft.who.filter((w) => external(w.address)).length;
  const barred = (draft.policy.externals ?? picture.data?.externals) === 'barred' && outsiders > 0;
  const missing = [
    draft.name.trim() === '' && 'a name',
    proposal.data && proposal.data.status !== 'free' && 'a free address',
    owners.length === 0 && 'an owner',
    barred && 'leave for its external members',
    (picture.data?.contradictions.length ?? 0) > 0 && 'a policy without contradictions',
    draft.rule?.trim() && effect.data?.valid === false && 'a rule that can be read',
  ].filter(Boolean);
  const begin = (name: string) => {
    const s = starts.data?.find((x) => x.name === name);
    if (!s) return change({ start: '' });
    change({
      start: name,
      policy: s.policy,
      traits: s.traits,
      delivery: s.default_delivery || 'each',
      welcome: s.welcome || draft.welcome,
    });
  };
  const listed = draft.lists.reduce((n, l) => n + l.ready, 0);
  const byRule = draft.rule?.trim() && effect.data?.valid ? effect.data.match : 0;

  return (
    <Box p={{ base: 3, md: 5 }} maxW="86rem" mx="auto">
      <HStack justify="space-between" mb="4">
        <Heading as="h1" size="2xl">
          Create a group
        </Heading>
        <Button size="sm" variant="ghost" colorPalette="gray" onClick={() => setDraft(fresh())}>
          Clear the sheet
        </Button>
      </HStack>
      <Grid templateColumns={{ base: 'minmax(0, 1fr)', lg: '9rem minmax(0, 1fr) 22rem' }} gap="6" alignItems="start">
        <Steps
          done={{
            start: draft.start !== '',
            use: draft.traits.length > 0,
            name: proposal.data?.status === 'free' && draft.name.trim() !== '',
            owners: owners.length > 0,
            people: others.length + draft.lists.length > 0 || !!draft.rule?.trim(),
            reach: Object.keys(draft.policy).length > 0,
          }}
        />
        <Stack gap="5" minW="0">
          <Section id="start" title="Begin from">
            <SimpleGrid columns={{ base: 1, md: 3 }} gap="2" role="radiogroup" aria-label="Starting point">
              {starts.data?.map((s) => (
                <Box
                  as="label"
                  key={s.name}
                  borderWidth="1px"
                  borderRadius="md"
                  p="2.5"
                  fontSize="sm"
                  cursor="pointer"
                  {...(draft.start === s.name ? { borderColor: 'ivy.solid', bg: 'ivy.subtle' } : {})}
                >
                  <input type="radio" name="start" checked={draft.start === s.name} onChange={() => begin(s.name)} />{' '}
                  <b>{s.title}</b>
                  <Text color="fg.muted" fontSize="xs">
                    {s.about}
                  </Text>
                </Box>
              ))}
            </SimpleGrid>
            <Text fontSize="sm" color="fg.muted" mt="2">
              It fills in reach and use, which you can change below, now and at any time later.
            </Text>
          </Section>
          <Section id="name" title="Name and address">
            <Stack gap="4">
              <Field.Root required invalid={!!error?.about('name')}>
                <Field.Label>Name</Field.Label>
                <Input
                  name="name"
                  placeholder="Slipway Repairs"
                  value={draft.name}
                  onChange={(e) => change({ name: e.target.value })}
                  autoFocus
                />
                <Field.ErrorText>{error?.about('name')}</Field.ErrorText>
              </Field.Root>
              <Field.Root
                invalid={proposal.data !== undefined && proposal.data.status !== 'free' && proposal.data.says !== ''}
              >
                <Field.Label>Address</Field.Label>
                <HStack w="full">
                  <Input
                    name="local"
                    aria-label="Address before the @"
                    placeholder="proposed from the name"
                    value={draft.local ?? proposal.data?.address.split('@')[0] ?? ''}
                    onChange={(e) => change({ local: e.target.value === '' ? null : e.target.value })}
                  />
                  <Text>@</Text>
                  <NativeSelect.Root>
                    <NativeSelect.Field
                      name="domain"
                      aria-label="Domain"
                      value={draft.domain}
                      onChange={(e) => change({ domain: e.target.value })}
                    >
                      {me.domains.map((d) => (
                        <option key={d}>{d}</option>
                      ))}
                    </NativeSelect.Field>
                    <NativeSelect.Indicator />
                  </NativeSelect.Root>
                </HStack>
                <HStack aria-live="polite" fontSize="sm" minH="1.5rem" data-status={proposal.data?.status}>
                  {proposal.data && (
                    <>
                      <Badge colorPalette={proposal.data.status === 'free' ? 'ivy' : 'red'}>
                        {statusWords[proposal.data.status]}
                      </Badge>
                      <Text color="fg.muted">{proposal.data.says}</Text>
                    </>
                  )}
                </HStack>
              </Field.Root>
              <Tags
                label="Further addresses"
                placeholder="Old names, typing mistakes; then Enter"
                list={draft.aliases}
                onChange={(aliases) => change({ aliases })}
              />
              {error?.problems
                .filter((p) => p.field.startsWith('aliases'))
                .map((p) => (
                  <Trouble key={p.field} error={p.says} />
                ))}
              <Field.Root>
                <Field.Label>Why it exists</Field.Label>
                <Textarea
                  name="description"
                  rows={2}
                  maxLength={2000}
                  value={draft.description}
                  onChange={(e) => change({ description: e.target.value })}
                />
                <Field.HelperText>For whoever looks at it in three years.</Field.HelperText>
              </Field.Root>
            </Stack>
          </Section>
          <Section id="owners" title="Owners">
            <Stack gap="3">
              <Text fontSize="sm" color="fg.muted">
                Owners say who is in it and what it is for. One at least, two are better.
                {me.workspace_role === 'administrator' && ' You are not among them unless you add yourself.'}
              </Text>
              <PeoplePicker
                label="Add an owner"
                placeholder="Begin to type a name"
                taken={taken}
                onPick={add('owner')}
              />
              <Chosen
                list={owners}
                external={external}
                onRemove={(a) => change({ who: draft.who.filter((w) => w.address !== a) })}
              />
              {error?.about('owners') && <Trouble error={error.about('owners')} />}
            </Stack>
          </Section>
          <Section id="people" title="People">
            <Stack gap="3">
              <PeoplePicker
                label="Add a member"
                placeholder="A name, an address outside, or a group’s address to nest it"
                outsiders
                taken={taken}
                onPick={add('member')}
              />
              <Chosen
                list={others}
                external={external}
                onRemove={(a) => change({ who: draft.who.filter((w) => w.address !== a) })}
                onRole={(a, role) => change({ who: draft.who.map((w) => (w.address === a ? { ...w, role } : w)) })}
              />
              <details open={many} onToggle={(e) => setMany(e.currentTarget.open)}>
                <Text as="summary" fontSize="sm" fontWeight="600" cursor="pointer">
                  Many at once: paste, a file, people of a group, everyone
                </Text>
                {many && (
                  <Box mt="2">
                    <Many
                      externals={draft.policy.externals ?? picture.data?.externals ?? 'barred'}
                      everyone
                      actions={(list, r) => (
                        <Button
                          size="sm"
                          variant="outline"
                          colorPalette="ivy"
                          alignSelf="start"
                          disabled={r.ready === 0}
                          onClick={() => {
                            const words = {
                              text: 'a pasted list',
                              table: 'a table',
                              group: 'a group',
                              workspace: 'everyone',
                              history: 'the history',
                            };
                            change({ lists: [...draft.lists, { list, words: words[r.kind], ready: r.ready }] });
                            setMany(false);
                          }}
                        >
                          Put {plural(r.ready, 'person', 'people')} on the sheet
                        </Button>
                      )}
                    />
                  </Box>
                )}
              </details>
              {draft.lists.map((l, i) => (
                <Button
                  key={i}
                  size="xs"
                  alignSelf="start"
                  variant="subtle"
                  colorPalette="ivy"
                  onClick={() => change({ lists: draft.lists.filter((_, x) => x !== i) })}
                >
                  {plural(l.ready, 'person', 'people')} from {l.words} ×
                </Button>
              ))}
              {draft.rule === null ? (
                <Button
                  size="xs"
                  alignSelf="start"
                  variant="outline"
                  colorPalette="gray"
                  onClick={() => change({ rule: '' })}
                >
                  Or by a rule: everyone whose attributes match
                </Button>
              ) : (
                <Stack gap="2" borderTopWidth="1px" pt="3">
                  <HStack justify="space-between">
                    <Text fontSize="sm" fontWeight="600">
                      By rule
                    </Text>
                    <Button size="xs" variant="ghost" colorPalette="gray" onClick={() => change({ rule: null })}>
                      Without a rule
                    </Button>
                  </HStack>
                  <RuleField value={draft.rule} onChange={(rule) => change({ rule })} effect={effect.data} />
                  {effect.data && draft.rule.trim() !== '' && <RuleEffectView effect={effect.data} />}
                </Stack>
              )}
            </Stack>
          </Section>
          <Section id="reach" title="Reach">
            {picture.data && (
              <PolicyEditor
                saved={picture.data}
                answered={picture.data}
                draft={draft.policy}
                onDraft={(policy) => change({ policy })}
              />
            )}
            <Trouble error={picture.error} />
          </Section>
          <Section id="use" title="Use">
            <Stack gap="4">
              <TraitBoxes list={draft.traits} onChange={(traits) => change({ traits })} />
              <SimpleGrid columns={{ base: 1, md: 2 }} gap="4">
                <Choice
                  label="Notices in"
                  value={draft.language}
                  choices={languages}
                  onChange={(language) => change({ language })}
                />
                <Choice
                  label="New members get"
                  value={draft.delivery}
                  choices={[
                    ['each', 'each message'],
                    ['none', 'no mail until they ask'],
                  ]}
                  onChange={(delivery) => change({ delivery })}
                />
              </SimpleGrid>
              <Field.Root>
                <Field.Label>Said to new members</Field.Label>
                <Textarea
                  name="welcome"
                  rows={2}
                  maxLength={2000}
                  value={draft.welcome}
                  onChange={(e) => change({ welcome: e.target.value })}
                />
                <Field.HelperText>Stands in the mail that tells them that they are in.</Field.HelperText>
              </Field.Root>
            </Stack>
          </Section>
        </Stack>
        <Sheet
          draft={draft}
          proposal={proposal.data}
          picture={picture.data}
          missing={missing as string[]}
          alike={draft.name.trim().length > 2 ? (alike.data ?? []) : []}
          also={[
            draft.aliases.length > 0 && `Also at ${draft.aliases.join(', ')}.`,
            draft.traits.length > 0 && `Does: ${draft.traits.join(', ')}.`,
            draft.language === 'de' && 'Its notices are written in German.',
            draft.delivery === 'none' && 'New members get no mail until they ask.',
            byRule > 0 && `${plural(byRule, 'person is', 'people are')} in by rule.`,
          ].filter((x) => x !== false)}
          people={draft.who.length + listed + byRule}
          barred={barred ? outsiders : 0}
          onAdmit={() => change({ policy: { ...draft.policy, externals: 'owners' } })}
          error={create.error}
          busy={create.isPending}
          onCreate={() => create.mutate()}
        />
      </Grid>
    </Box>
  );
}
