import { Box, Button, Field, Grid, Input, Stack, Text } from '@chakra-ui/react';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, ask, type Decision, type Group } from '../api/client';
import { date, inDays, people, plural } from '../lib/dates';
import { useMe } from '../session/me';
import { Faults, StandIns } from '../shared/policy';
import { Fact, Panel, Trouble } from '../ui/parts';
import { MyPart } from './my-part';
import { useGroup } from './page';
import { Settings } from './settings';

export default function Overview() {
  const g = useGroup();
  const policy = useQuery({
    queryKey: ['group', g.id, 'policy', g.version],
    queryFn: () => ask(api.GET('/api/v1/groups/{ref}/policy', { params: { path: { ref: g.address } } })),
  });
  const c = g.counts;
  return (
    <Grid templateColumns={{ base: 'minmax(0, 1fr)', lg: '3fr 2fr' }} gap="5" alignItems="start">
      <Stack gap="5">
        <Settings group={g} />
        <Panel title="In short">
          <Stack as="dl" gap="2">
            <Fact name="Owners">
              {g.owners.length === 0 ? <span className="warn">Nobody. An administrator has to name one.</span> : null}
              {g.owners.map((o) => (
                <Text key={o.address}>
                  <Link to={`/people/${o.address}`}>{o.name}</Link>{' '}
                  <Text as="span" color="fg.muted" fontSize="sm">{`<${o.address}>`}</Text>
                </Text>
              ))}
            </Fact>
            <Fact name="People">
              {[plural(c.owners, 'owner'), plural(c.moderators, 'moderator'), plural(c.members, 'member')].join(', ')}
              {c.external > 0 && `, ${c.external} of them external`}
              {c.nested > 0 && `, and ${plural(c.nested, 'nested group')}`}
            </Fact>
            <Fact name="Expires">
              {g.term.ended_at
                ? `ended ${date(g.term.ended_at)}`
                : g.term.exempt
                  ? `never: ${g.term.exempt.reason}`
                  : inDays(g.term.expires_on, g.term.days_left)}
            </Fact>
          </Stack>
        </Panel>
        {policy.data && (
          <Panel title="What people can do">
            <Stack gap="4">
              <StandIns list={policy.data.stand_ins} columns={2} />
              <Faults contradictions={policy.data.contradictions} warnings={policy.data.warnings} />
            </Stack>
          </Panel>
        )}
      </Stack>
      <Stack gap="5">
        <MyPart group={g} />
        <Rehearsal group={g} />
      </Stack>
    </Grid>
  );
}

const outcomes: Record<Decision['outcome'], string> = {
  allow: 'It would arrive.',
  hold: 'It would wait for approval.',
  refuse: 'It would be refused.',
};

/** Rehearsal asks what would happen to a message, with every reason. */
function Rehearsal({ group: g }: { group: Group }) {
  const me = useMe();
  const staff = g.may?.includes('rehearse');
  const [as, setAs] = useState(me.address);
  const [proven, setProven] = useState(true);
  const rehearse = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/rehearsals', { body: { action: 'post', group: g.address, as, proven } })),
  });
  const d = rehearse.data;
  return (
    <Panel title="What would happen if…">
      <Stack
        as="form"
        gap="3"
        onSubmit={(e) => {
          e.preventDefault();
          rehearse.mutate();
        }}
      >
        <Field.Root>
          <Field.Label>…this person wrote to it?</Field.Label>
          <Input name="as" value={as} onChange={(e) => setAs(e.target.value)} readOnly={!staff} />
          {!staff && <Field.HelperText>You can ask for yourself.</Field.HelperText>}
        </Field.Root>
        {staff && (
          <label>
            <input type="checkbox" checked={proven} onChange={(e) => setProven(e.target.checked)} /> signed in to send
            it, so that it is proven who wrote it
          </label>
        )}
        <Button
          type="submit"
          size="sm"
          variant="outline"
          colorPalette="ivy"
          alignSelf="start"
          loading={rehearse.isPending}
        >
          Rehearse
        </Button>
        <Trouble error={rehearse.error} />
        {d && (
          <Stack gap="2" aria-live="polite" borderTopWidth="1px" pt="3">
            <Text fontWeight="600" fontSize="lg" fontFamily="heading">
              {outcomes[d.outcome]}
            </Text>
            {d.reasons.map((r) => (
              <Box
                key={r.rule}
                fontSize="sm"
                borderLeftWidth="3px"
                borderColor={r.rule === d.rule ? 'ivy.solid' : 'border'}
                pl="3"
              >
                <Text>{r.says}</Text>
                <Text color="fg.muted" fontSize="xs">
                  rule {r.rule}
                </Text>
                {r.mend && <Text color="brass.fg">To change that: {r.mend}</Text>}
              </Box>
            ))}
            {d.recipients && (
              <Text fontSize="sm" color="fg.muted">
                {d.outcome === 'hold' ? 'Once approved, it would reach' : 'It would reach'} {people(d.recipients.count)}
                {d.recipients.sample.length > 0 && `, such as ${d.recipients.sample.slice(0, 3).join(', ')}`}.{' '}
                {d.recipients.hidden}
              </Text>
            )}
          </Stack>
        )}
      </Stack>
    </Panel>
  );
}
