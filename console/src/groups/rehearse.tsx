import { Box, Checkbox, Grid, HStack, Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask, type Decision, type Group, type Rehearsal } from '../api/client';
import { plural } from '../lib/dates';
import { GroupField } from '../shared/group-field';
import { PeoplePicker } from '../shared/people-picker';
import { Choice, Panel, Trouble } from '../ui/parts';
import { actions, outcomes } from './actions';

type Action = Rehearsal['action'];
type Role = NonNullable<Rehearsal['role']>;

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

/** Rehearse answers what would happen, without anything being done. */
export function Rehearse({ group: g, byName }: { group: Group; byName: boolean }) {
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
        {ready && said.data && <Answer said={said.data} mail={writes} />}
      </Stack>
    </Panel>
  );
}

/** Answer is a decision with its reasons, and whom a post would reach. */
function Answer({ said: d, mail }: { said: Decision; mail: boolean }) {
  const outcome = outcomes[d.outcome];
  return (
    <Stack gap="2" borderTopWidth="1px" pt="3" fontSize="sm" aria-live="polite">
      <Text fontWeight="700" fontSize="md" color={outcome.colour}>
        {mail ? outcome.mail : outcome.words}.
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
      {d.notice && <Text>It says: {d.notice}</Text>}
      {d.hidden && <Text color="fg.muted">{d.hidden}</Text>}
    </Stack>
  );
}
