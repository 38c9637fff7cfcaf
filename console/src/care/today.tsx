import { Box, Grid, HStack, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, ask, type FindingKind } from '../api/client';
import { date, plural } from '../lib/dates';
import { useList } from '../lib/use-list';
import { useMe } from '../session/me';
import { severities, Severity, useFindingKinds } from '../shared/findings';
import { Columns } from '../ui/columns';
import { Loading, More, Nothing, Panel, Trouble } from '../ui/parts';
import { Mends } from './mending';
import { columnsOf, monthLabels } from './periods';

/** Today begins with the few things to do, by weight. */
export default function Today() {
  return (
    <Grid templateColumns={{ base: 'minmax(0, 1fr)', lg: '3fr 2fr' }} gap="5" alignItems="start">
      <Stack gap="5">
        <ToDo />
        <Held />
      </Stack>
      <Stack gap="5">
        <Soon />
        <Trend />
        <Nestings />
      </Stack>
    </Grid>
  );
}

/** few is how many kinds of findings a day begins with. */
const few = 7;

function ToDo() {
  const me = useMe();
  const kinds = useFindingKinds();
  const limits = useQuery({ queryKey: ['review', 'limits'], queryFn: () => ask(api.GET('/api/v1/review-limits')) });
  const open = (kinds.data?.items ?? []).filter((k) => k.open > 0);
  return (
    <Panel
      title="To do, by weight"
      side={
        kinds.data && (
          <Link to="/care/findings">
            <u>All {plural(kinds.data.open, 'finding')}</u>
          </Link>
        )
      }
    >
      {kinds.error ? (
        <Trouble error={kinds.error} />
      ) : !kinds.data ? (
        <Loading what="what the review found" />
      ) : open.length === 0 ? (
        <Nothing title="Nothing is wrong that the review looks for." />
      ) : (
        <Stack as="ul" gap="4" listStyleType="none">
          {open.slice(0, few).map((k) => (
            <HStack as="li" key={k.kind} align="start" gap="3">
              <Text w="3rem" textAlign="right" fontFamily="heading" fontSize="2xl" lineHeight="1.1" flexShrink="0">
                {k.open.toLocaleString('en-GB')}
              </Text>
              <Box minW="0">
                <HStack wrap="wrap" gap="3">
                  <Text fontWeight="600">
                    <Link to={`/care/findings?kind=${k.kind}`}>
                      <u>{k.open === 1 ? k.title : k.says}</u>
                    </Link>
                  </Text>
                  <Severity of={k.severity} />
                </HStack>
                <Text fontSize="sm" color="fg.muted">
                  {k.why} {since(k)}
                </Text>
                {me.may.includes('change_review') && (
                  <HStack mt="1" wrap="wrap">
                    <Mends kind={k} small days={limits.data?.alias_days} />
                  </HStack>
                )}
              </Box>
            </HStack>
          ))}
          {open.length > few && (
            <Text as="li" fontSize="sm" color="fg.muted">
              <Link to="/care/findings">
                <u>{plural(open.length - few, 'lighter kind')}</u>
              </Link>{' '}
              beside these, such as {open[few]?.title.toLowerCase()} ({open[few]?.open}).
            </Text>
          )}
        </Stack>
      )}
    </Panel>
  );
}

/** since says how a number was a week ago. */
function since(k: FindingKind): string {
  if (k.week_ago === undefined || k.week_ago === k.open) return '';
  const more = k.open - k.week_ago;
  return more > 0 ? `${more} more than a week ago.` : `${-more} fewer than a week ago.`;
}

/** Held is what is kept by hand. */
function Held() {
  const held = useQuery({
    queryKey: ['group', 'care', 'hold'],
    queryFn: () =>
      ask(api.GET('/api/v1/groups', { params: { query: { filter: 'under_hold eq true', sort: 'name', limit: 20 } } })),
  });
  if (!held.data || held.data.total === 0) return null;
  return (
    <Panel title="Under hold" side={<Text color="fg.muted">{plural(held.data.total, 'group')}</Text>}>
      <Text fontSize="sm" color="fg.muted" mb="2">
        Neither retired nor deleted for good until they are released.
      </Text>
      <Stack as="ul" gap="1" listStyleType="none" fontSize="sm">
        {held.data.items.map((g) => (
          <li key={g.id}>
            <Link to={`/groups/${g.address}/term`}>
              <u>{g.name}</u>
            </Link>
            {g.term.hold && `: ${g.term.hold.reason}`}
          </li>
        ))}
      </Stack>
    </Panel>
  );
}

/** Trend is how many findings there were, week by week, by weight. */
function Trend() {
  const days = useQuery({
    queryKey: ['review', 'days'],
    queryFn: () => ask(api.GET('/api/v1/finding-days', { params: { query: { days: 91 } } })),
  });
  const weekly = weeks(days.data?.items ?? []);
  const labels = monthLabels(weekly.map((d) => d.day));
  if (weekly.length < 2) return null;
  return (
    <Panel title="Findings of the last 13 weeks">
      <Stack gap="3">
        {(['serious', 'doubtful', 'minor'] as const).map((s) => (
          <Box key={s}>
            <HStack justify="space-between" fontSize="sm" mb="1">
              <Severity of={s} />
              <Text>
                {weekly[0]?.[s]} then, {weekly.at(-1)?.[s]} now
              </Text>
            </HStack>
            <Columns
              label={`${severities[s]} findings, by week`}
              height="3rem"
              columns={weekly.map((d, i) => ({
                key: d.day,
                label: s === 'minor' ? (labels[i] ?? '') : '',
                says: `${date(d.day)}: ${d[s]} ${severities[s].toLowerCase()}`,
                value: d[s],
                to: `/care/findings?severity=${s}`,
              }))}
            />
          </Box>
        ))}
      </Stack>
    </Panel>
  );
}

/** weeks keeps the last day of each week, counted back from today. */
function weeks<D extends { day: string }>(days: D[]): D[] {
  const at = (d: D) => new Date(d.day).getTime() / 86_400_000;
  const last = days.at(-1);
  if (!last) return [];
  const of = new Map(days.map((d) => [Math.floor((at(last) - at(d)) / 7), d]));
  return [...of.entries()].sort(([a], [b]) => b - a).map(([, d]) => d);
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
