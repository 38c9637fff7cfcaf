import { Box, Grid, HStack, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, ask } from '../api/client';
import { plural } from '../lib/dates';
import { useList } from '../lib/use-list';
import { Columns } from '../ui/columns';
import { Loading, More, Panel, Trouble } from '../ui/parts';
import { columnsOf } from './periods';

type Group = 'active' | 'due' | 'lapsed' | 'retired';

/** What there is to do, the weightiest first: how many groups a filter names, and what that means. */
const things: { key: string; filter: string; one: string; many: string; why: string; states?: Group[] }[] = [
  {
    key: 'unowned',
    filter: 'owners eq 0 and days_left lt 60',
    one: 'group without an owner expires within 60 days',
    many: 'groups without an owner expire within 60 days',
    why: 'Nobody is left to renew them but their caretaker.',
  },
  {
    key: 'owners',
    filter: 'owners eq 0',
    one: 'living group has no owner',
    many: 'living groups have no owner',
    why: 'Give them one: what comes up about them comes to you.',
    states: ['active', 'due'],
  },
  {
    key: 'due',
    filter: 'days_left lt 15',
    one: 'group expires within two weeks',
    many: 'groups expire within two weeks',
    why: 'Their owners were told twice. Ask those who have not answered.',
  },
  {
    key: 'exempt',
    filter: 'exempt_until pr',
    one: 'exemption is to be looked at again',
    many: 'exemptions are to be looked at again',
    why: 'Whoever made them exempt said when.',
  },
  {
    key: 'hold',
    filter: 'under_hold eq true',
    one: 'group is under hold',
    many: 'groups are under hold',
    why: 'They are neither retired nor deleted for good until they are released.',
  },
];

/** Today begins with the few things to do. */
export default function Today() {
  return (
    <Grid templateColumns={{ base: 'minmax(0, 1fr)', lg: '3fr 2fr' }} gap="5" alignItems="start">
      <Stack gap="5">
        <Panel title="To look at">
          <Stack as="ul" gap="3" listStyleType="none">
            {things.map((t) => (
              <Thing key={t.key} thing={t} />
            ))}
          </Stack>
        </Panel>
        <Soon />
      </Stack>
      <Nestings />
    </Grid>
  );
}

function Thing({ thing: t }: { thing: (typeof things)[number] }) {
  const found = useQuery({
    queryKey: ['group', 'care', t.key],
    queryFn: () =>
      ask(
        api.GET('/api/v1/groups', {
          params: { query: { filter: t.filter, ...(t.states ? { state: t.states } : {}), limit: 1 } },
        }),
      ),
  });
  const n = found.data?.total ?? 0;
  const states = (t.states ?? []).map((s) => `&state=${s}`).join('');
  if (found.error) return <Trouble error={found.error} />;
  return (
    <HStack as="li" align="start" gap="3" opacity={n === 0 ? 0.75 : 1}>
      <Text w="3rem" textAlign="right" fontFamily="heading" fontSize="2xl" lineHeight="1.1" flexShrink="0">
        {found.data ? n.toLocaleString('en-GB') : '…'}
      </Text>
      <Box>
        <Text fontWeight="600">
          {n > 0 ? (
            <Link to={`/groups?filter=${encodeURIComponent(t.filter)}${states}`}>
              <u>{n === 1 ? t.one : t.many}</u>
            </Link>
          ) : (
            t.many
          )}
        </Text>
        {n > 0 && (
          <Text fontSize="sm" color="fg.muted">
            {t.why}
          </Text>
        )}
      </Box>
    </HStack>
  );
}

/** Soon is the next half year of the forecast. */
function Soon() {
  const forecast = useQuery({
    queryKey: ['life', 'forecast', '', ''],
    queryFn: () => ask(api.GET('/api/v1/terms/forecast')),
  });
  if (!forecast.data) return forecast.error ? <Trouble error={forecast.error} /> : <Loading what="what expires" />;
  const weeks = forecast.data.items.slice(0, 26);
  const n = weeks.reduce((sum, w) => sum + w.groups, 0);
  return (
    <Panel
      title="Expiring in the next 26 weeks"
      side={
        <Link to="/care/forecast">
          <u>{plural(n, 'group')}</u>
        </Link>
      }
    >
      <Columns
        label="Groups that expire, by week"
        height="6rem"
        columns={columnsOf(
          weeks,
          (w) => w.groups,
          (w) => ({ to: `/groups?filter=${encodeURIComponent(w.filter)}` }),
        )}
      />
    </Panel>
  );
}

/** Nestings lists the groups in groups about which there is a doubt. */
function Nestings() {
  const list = useList({
    key: ['member', 'nestings'],
    read: (_, cursor) => ask(api.GET('/api/v1/nestings', { params: { query: { cursor, limit: 100 } } })),
  });
  const doubtful = list.rows.filter((n) => n.doubts.length > 0);
  return (
    <Panel title="Groups in groups">
      {list.error ? (
        <Trouble error={list.error} retry={list.retry} />
      ) : !list.loaded ? (
        <Loading what="groups in groups" />
      ) : (
        <Stack gap="3">
          <Text color="fg.muted" fontSize="sm">
            {plural(list.total, 'group')} in other groups; mail to the outer one reaches their people by its policy
            alone.
            {doubtful.length === 0 && ' Nothing is doubtful about them.'}
          </Text>
          {doubtful.map((n) => (
            <Box key={n.id} fontSize="sm">
              <Text>
                <Link to={`/groups/${n.inner.address}`}>
                  <u>{n.inner.name}</u>
                </Link>{' '}
                in{' '}
                <Link to={`/groups/${n.outer.address}`}>
                  <u>{n.outer.name}</u>
                </Link>
              </Text>
              <Text color="fg.muted">{n.doubts.join(' ')}</Text>
            </Box>
          ))}
          <More list={list} />
        </Stack>
      )}
    </Panel>
  );
}
