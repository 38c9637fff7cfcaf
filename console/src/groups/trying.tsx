import { Box, Button, Checkbox, Grid, HStack, Link, Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask, type Decision, type Group, type Permitted, type Rehearsal } from '../api/client';
import { plural } from '../lib/dates';
import { useList } from '../lib/use-list';
import { GroupField } from '../shared/group-field';
import { PeoplePicker } from '../shared/people-picker';
import { Choice, Loading, More, Panel, Trouble } from '../ui/parts';

type Action = Rehearsal['action'];
type Role = NonNullable<Rehearsal['role']>;

const actions: [Action, string][] = [
  ['post', 'write to it'],
  ['write_owners', 'write to its owners'],
  ['find', 'find it'],
  ['see_people', 'see who is in it'],
  ['read', 'read its archive'],
  ['join', 'come in'],
  ['leave', 'leave it'],
  ['add_people', 'add people to it'],
  ['invite', 'invite people'],
  ['nest', 'put a group into it'],
  ['speak_as', 'write as the group'],
  ['speak_for', 'write for the group, by name'],
];

const roles: [Role, string][] = [
  ['stranger', 'a stranger'],
  ['colleague', 'a colleague'],
  ['member', 'a member'],
  ['external_member', 'an external member'],
  ['moderator', 'a moderator'],
  ['owner', 'an owner'],
  ['administrator', 'an administrator'],
  ['auditor', 'an auditor'],
];

const listed = [
  'post',
  'write_owners',
  'find',
  'see_people',
  'read',
  'join',
  'add_people',
  'speak_as',
  'speak_for',
] as const;
type Listed = (typeof listed)[number];

/** Trying answers what would happen, and who may do what, without anything being done. */
export function Trying({ group: g, draft }: { group: Group; draft: string }) {
  const mayAsk = g.may?.includes('rehearse') ?? false;
  return (
    <Grid
      templateColumns={{ base: 'minmax(0, 1fr)', lg: mayAsk ? 'minmax(0, 1fr) minmax(0, 1fr)' : 'minmax(0, 1fr)' }}
      gap="5"
      alignItems="start"
    >
      <Rehearse group={g} byName={mayAsk} />
      {mayAsk && <WhoMay group={g} draft={draft} />}
    </Grid>
  );
}

function Rehearse({ group: g, byName }: { group: Group; byName: boolean }) {
  const [action, setAction] = useState<Action>('post');
  const [role, setRole] = useState<Role | 'somebody'>('stranger');
  const [who, setWho] = useState<{ address: string; name: string } | null>(null);
  const [proven, setProven] = useState(true);
  const [inner, setInner] = useState('');
  const writes = action === 'post' || action === 'write_owners';
  const body: Rehearsal = {
    action,
    group: g.id,
    ...(role === 'somebody' ? { as: who?.address ?? '' } : { role }),
    ...(writes ? { proven } : {}),
    ...(action === 'nest' && inner ? { with: inner } : {}),
  };
  const ready = role !== 'somebody' || who !== null;
  const said = useQuery({
    queryKey: ['group', g.id, 'rehearsal', g.version, body],
    enabled: ready,
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.POST('/api/v1/rehearsals', { body })),
  });
  return (
    <Panel title="Try it">
      <Stack gap="3">
        <Text fontSize="sm" color="fg.muted">
          See what would happen, by the rules as they are saved. Nothing is done and nobody is told.
        </Text>
        <Grid templateColumns={{ base: '1fr', md: '1fr 1fr' }} gap="3">
          <Choice
            label="If"
            value={role}
            choices={byName ? [...roles, ['somebody', 'somebody by name …']] : roles}
            onChange={(r) => setRole(r as Role | 'somebody')}
          />
          <Choice label="wants to" value={action} choices={actions} onChange={(a) => setAction(a as Action)} />
        </Grid>
        {role === 'somebody' && (
          <Box>
            {who && (
              <HStack mb="1">
                <Text fontSize="sm">
                  <b>{who.name}</b> {who.address}
                </Text>
              </HStack>
            )}
            <PeoplePicker
              label={who ? 'Somebody else' : 'Who'}
              placeholder="Begin to type a name, or a whole address"
              outsiders
              taken={[]}
              onPick={(address, name) => setWho({ address, name })}
            />
          </Box>
        )}
        {action === 'nest' && <GroupField label="The group that would be put into it" onPick={setInner} />}
        {writes && (
          <Checkbox.Root size="sm" checked={!proven} onCheckedChange={(e) => setProven(e.checked !== true)}>
            <Checkbox.HiddenInput />
            <Checkbox.Control />
            <Checkbox.Label>Nothing proves that they wrote it</Checkbox.Label>
          </Checkbox.Root>
        )}
        <Trouble error={said.error} />
        {ready && said.data && <Answer said={said.data} />}
      </Stack>
    </Panel>
  );
}

const outcomes = {
  allow: { words: 'Yes', colour: 'ivy.fg' },
  hold: { words: 'It waits for approval', colour: 'brass.fg' },
  refuse: { words: 'No', colour: 'red.fg' },
} as const;

/** Answer is a decision with its reasons, and whom a post would reach. */
function Answer({ said: d }: { said: Decision }) {
  const outcome = outcomes[d.outcome as keyof typeof outcomes];
  return (
    <Stack gap="2" borderTopWidth="1px" pt="3" fontSize="sm" aria-live="polite">
      <Text fontWeight="700" fontSize="md" color={outcome.colour}>
        {outcome.words}.
      </Text>
      <Stack as="ol" gap="1" listStyleType="none">
        {d.reasons.map((r, i) => (
          <li key={i}>
            {r.says}
            {r.mend && (
              <Text as="span" color="fg.muted">
                {' '}
                To change it: {r.mend}
              </Text>
            )}
          </li>
        ))}
      </Stack>
      {d.recipients && (
        <Box>
          <Text fontWeight="600">
            It would reach {plural(d.recipients.count, 'person', 'people')}
            {d.recipients.without > 0 &&
              `; ${plural(d.recipients.without, 'more has', 'more have')} chosen to get no mail`}
            .
          </Text>
          <Stack as="ul" gap="0.5" listStyleType="none" maxH="12rem" overflowY="auto" tabIndex={0} role="list">
            {d.recipients.ways.map((w) => (
              <li key={w.address}>
                {w.name || w.address}{' '}
                <Text as="span" color="fg.muted">
                  {w.external && 'external · '}
                  {w.role || `through ${(w.through ?? []).join(', ')}`}
                </Text>
              </li>
            ))}
          </Stack>
          {d.recipients.count > d.recipients.ways.length && (
            <Text color="fg.muted">
              and {plural(d.recipients.count - d.recipients.ways.length, 'more person', 'more people')}
            </Text>
          )}
          {d.recipients.hidden && <Text color="fg.muted">{d.recipients.hidden}</Text>}
        </Box>
      )}
      {d.hidden && <Text color="fg.muted">{d.hidden}</Text>}
    </Stack>
  );
}

/** WhoMay lists who may do something with a group, and why; with a draft, for whom it would change. */
function WhoMay({ group: g, draft }: { group: Group; draft: string }) {
  const [action, setAction] = useState<Listed>('post');
  const [changed, setChanged] = useState(true);
  const asked = { action, ...(draft && changed ? { draft } : {}) };
  const path = { ref: g.id };
  const list = useList<Permitted & { id: string }>({
    key: ['group', g.id, 'permitted', g.version, asked],
    read: async (_, cursor) => {
      const page = await ask(
        api.GET('/api/v1/groups/{ref}/permitted', { params: { path, query: { ...asked, cursor, limit: 50 } } }),
      );
      return { ...page, items: page.items.map((p) => ({ ...p, id: p.address })) };
    },
  });
  return (
    <Panel
      title="Who may, and why"
      side={
        <Link
          fontSize="sm"
          href={`/api/v1/groups/${g.id}/permitted-export?${new URLSearchParams(asked).toString()}`}
          download
        >
          Export as CSV
        </Link>
      }
    >
      <Stack gap="3">
        <Choice
          label="Who may"
          value={action}
          choices={actions.filter(([a]) => listed.some((l) => l === a))}
          onChange={(a) => setAction(a as Listed)}
        />
        {draft && (
          <Button
            size="xs"
            alignSelf="start"
            variant="outline"
            colorPalette="brass"
            aria-pressed={changed}
            onClick={() => setChanged(!changed)}
          >
            {changed
              ? 'Only those for whom the draft changes it: show all'
              : 'As it is saved: show what the draft changes'}
          </Button>
        )}
        <Trouble error={list.error} retry={list.retry} />
        {!list.loaded && !list.error && <Loading what="who may" />}
        {list.loaded && (
          <>
            <Text fontSize="sm" color="fg.muted">
              {list.total === 0
                ? draft && changed
                  ? 'The draft changes this for nobody.'
                  : 'Nobody.'
                : `${list.total.toLocaleString('en-GB')} in this list.`}{' '}
              {list.hidden}
            </Text>
            <Box maxH="24rem" overflowY="auto" tabIndex={0} role="region" aria-label="Who may, and why">
              <Stack as="ul" gap="0" listStyleType="none" fontSize="sm">
                {list.rows.map((p) => (
                  <Box as="li" key={p.id} py="1.5" borderBottomWidth="1px">
                    <Text>
                      <b>{p.name || p.address}</b>{' '}
                      <Text as="span" color="fg.muted">
                        {[
                          p.external && p.address !== '*' && 'external',
                          p.role !== 'none' && p.role,
                          p.role === 'none' && p.through.length > 0 && `through ${p.through.join(', ')}`,
                        ]
                          .filter(Boolean)
                          .join(' · ')}
                      </Text>
                    </Text>
                    <Text color="fg.muted">
                      {p.was && `${outcomes[p.was].words} → `}
                      {p.outcome !== 'allow' || p.was ? `${outcomes[p.outcome].words}. ` : ''}
                      {p.says}
                    </Text>
                  </Box>
                ))}
              </Stack>
              <More list={list} />
            </Box>
          </>
        )}
      </Stack>
    </Panel>
  );
}
