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
  Stack,
  Text,
  Textarea,
} from '@chakra-ui/react';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { X } from 'lucide-react';
import { type ReactNode, useEffect, useMemo, useState } from 'react';
import { useNavigate } from 'react-router';
import {
  api,
  ask,
  type Expiry,
  type NewGroup,
  type Picture,
  type PolicyPatch,
  type Proposal,
  Refusal,
} from '../api/client';
import { useMe } from '../session/me';
import { plural } from '../ui/dates';
import { Panel, Trouble } from '../ui/parts';
import { PeoplePicker } from '../ui/people-picker';
import { Faults, PolicyEditor, StandIns } from '../ui/policy';
import { useSettled } from '../ui/settled';
import { toaster } from '../ui/toaster';

type Who = { address: string; name: string; role: 'owner' | 'moderator' | 'member' };
type Draft = {
  name: string;
  local: string | null;
  domain: string;
  description: string;
  who: Who[];
  policy: PolicyPatch;
};

const kept = 'new-group';
const blank = (domain: string): Draft => ({ name: '', local: null, domain, description: '', who: [], policy: {} });

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
  invalid: 'not possible',
};

export default function CreateGroup() {
  const me = useMe();
  const navigate = useNavigate();
  const [draft, setDraft] = useState(() => read(me.domains[0] ?? ''));
  const [key] = useState(() => crypto.randomUUID());
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
  const owners = draft.who.filter((w) => w.role === 'owner');
  const others = draft.who.filter((w) => w.role !== 'owner');
  const create = useMutation({
    mutationFn: () => {
      const body: NewGroup = {
        name: draft.name,
        description: draft.description,
        owners: owners.map((o) => o.address),
        people: others.map((o) => ({ address: o.address, role: o.role })),
        ...draft.policy,
      };
      if (draft.local !== null || draft.domain !== me.domains[0]) body.address = proposal.data?.address ?? '';
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
  ].filter(Boolean);

  return (
    <Box p={{ base: 3, md: 5 }} maxW="86rem" mx="auto">
      <HStack justify="space-between" mb="4">
        <Heading as="h1" size="2xl">
          Create a group
        </Heading>
        <Button size="sm" variant="ghost" colorPalette="gray" onClick={() => setDraft(blank(me.domains[0] ?? ''))}>
          Clear the sheet
        </Button>
      </HStack>
      <Grid templateColumns={{ base: 'minmax(0, 1fr)', lg: '9rem minmax(0, 1fr) 22rem' }} gap="6" alignItems="start">
        <Steps
          done={{
            name: proposal.data?.status === 'free' && draft.name.trim() !== '',
            owners: owners.length > 0,
            people: others.length > 0,
            reach: Object.keys(draft.policy).length > 0,
          }}
        />
        <Stack gap="5" minW="0">
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
                Owners say who is in it and what it is for. One at least, two are better. You are not among them unless
                you add yourself.
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
                placeholder="A name, or an address outside the workspace"
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
        </Stack>
        <Sheet
          draft={draft}
          proposal={proposal.data}
          picture={picture.data}
          missing={missing as string[]}
          people={draft.who.length}
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

function Section({ id, title, children }: { id: string; title: string; children: ReactNode }) {
  return (
    <Box id={id} scrollMarginTop="4">
      <Panel title={title}>{children}</Panel>
    </Box>
  );
}

function Steps({ done }: { done: Record<string, boolean> }) {
  return (
    <Stack as="nav" aria-label="Parts of the sheet" position={{ lg: 'sticky' }} top="5" gap="1" hideBelow="lg">
      {(
        [
          ['name', 'Name'],
          ['owners', 'Owners'],
          ['people', 'People'],
          ['reach', 'Reach'],
        ] as const
      ).map(([id, label]) => (
        <a key={id} href={`#${id}`} style={{ padding: '0.35rem 0.6rem', borderRadius: 6 }}>
          <span aria-hidden="true">{done[id] ? '✓ ' : '· '}</span>
          {label}
        </a>
      ))}
    </Stack>
  );
}

function Chosen(props: {
  list: Who[];
  external: (a: string) => boolean;
  onRemove: (a: string) => void;
  onRole?: (a: string, role: Who['role']) => void;
}) {
  return (
    <Stack as="ul" gap="1" listStyleType="none">
      {props.list.map((w) => (
        <HStack as="li" key={w.address} bg="bg.subtle" borderRadius="md" px="3" py="1.5" justify="space-between">
          <Box minW="0">
            <Text fontWeight="600" truncate>
              {w.name} {props.external(w.address) && <Badge colorPalette="brass">external</Badge>}
            </Text>
            {w.name !== w.address && (
              <Text fontSize="sm" color="fg.muted" truncate>
                {w.address}
              </Text>
            )}
          </Box>
          <HStack>
            {props.onRole && !props.external(w.address) && (
              <NativeSelect.Root size="xs" w="7.5rem">
                <NativeSelect.Field
                  aria-label={`Role of ${w.name}`}
                  value={w.role}
                  onChange={(e) => props.onRole?.(w.address, e.target.value as Who['role'])}
                >
                  <option value="member">member</option>
                  <option value="moderator">moderator</option>
                </NativeSelect.Field>
                <NativeSelect.Indicator />
              </NativeSelect.Root>
            )}
            <Button
              size="xs"
              variant="ghost"
              colorPalette="gray"
              aria-label={`Take ${w.name} off the sheet`}
              onClick={() => props.onRemove(w.address)}
            >
              <X size={14} />
            </Button>
          </HStack>
        </HStack>
      ))}
    </Stack>
  );
}

/** termWords says how long a new group will live. */
function termWords(e: Expiry | undefined): string {
  if (!e) return '';
  return e.term_days > 0 && e.scope === 'all'
    ? `It expires ${plural(e.term_days, 'day')} after its last renewal.`
    : 'It never expires, unless the workspace sets a term.';
}

/** Sheet fills itself while the rest of the page is filled in. */
function Sheet(props: {
  draft: Draft;
  proposal: Proposal | undefined;
  picture: Picture | undefined;
  missing: string[];
  people: number;
  barred: number; // external members whom the policy does not take
  onAdmit: () => void;
  error: unknown;
  busy: boolean;
  onCreate: () => void;
}) {
  const { draft, proposal, picture } = props;
  const expiry = useQuery({ queryKey: ['expiry'], queryFn: () => ask(api.GET('/api/v1/expiry')) });
  return (
    <Box position={{ lg: 'sticky' }} top="5">
      <Panel>
        <Stack gap="3">
          <Box>
            <Text fontFamily="heading" fontSize="xl" fontWeight="600">
              {draft.name.trim() || 'A group without a name'}
            </Text>
            <Text color="fg.muted" wordBreak="break-all" data-testid="final-address">
              {proposal?.address || 'no address yet'}
            </Text>
          </Box>
          <Text>{termWords(expiry.data)}</Text>
          {picture && (
            <>
              <Text>{picture.sentence}</Text>
              <Faults contradictions={picture.contradictions} warnings={picture.warnings} />
            </>
          )}
          {props.barred > 0 && (
            <Box borderLeftWidth="4px" borderColor="brass.solid" pl="3" fontSize="sm" role="alert">
              <Text>
                <span className="warn">{plural(props.barred, 'person is', 'people are')} external</span>, and the group
                takes no external members.
              </Text>
              <Button size="xs" mt="1" variant="outline" colorPalette="brass" onClick={props.onAdmit}>
                Let owners add external members
              </Button>
            </Box>
          )}
          <Trouble error={props.error} />
          <Button colorPalette="ivy" disabled={props.missing.length > 0} loading={props.busy} onClick={props.onCreate}>
            {props.people > 0 ? `Create and add ${plural(props.people, 'person', 'people')}` : 'Create'}
          </Button>
          {props.missing.length > 0 && (
            <Text fontSize="sm" color="fg.muted">
              Still needs {props.missing.join(', ')}.
            </Text>
          )}
          {picture && <StandIns list={picture.stand_ins} />}
        </Stack>
      </Panel>
    </Box>
  );
}
