import { Grid, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, ask } from '../api/client';
import { date, inDays, plural } from '../lib/dates';
import { FindingsOf } from '../shared/findings';
import { Faults, StandIns } from '../shared/policy';
import { Fact, Panel } from '../ui/parts';
import { MyPart } from './my-part';
import { PublicLink } from './public-link';
import { useGroup } from './page';
import { Rehearse } from './rehearse';
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
              <PublicLink group={g} />
            </Stack>
          </Panel>
        )}
      </Stack>
      <Stack gap="5">
        {g.mail.notice && (
          <Panel title="Before you write">
            <Text>{g.mail.notice}</Text>
          </Panel>
        )}
        {g.may?.includes('history') && <FindingsOf address={g.address} />}
        <MyPart group={g} />
        <Rehearse group={g} byName={g.may?.includes('rehearse') ?? false} />
      </Stack>
    </Grid>
  );
}
