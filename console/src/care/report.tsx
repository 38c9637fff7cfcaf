import { Box, Button, Grid, Heading, HStack, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, ask } from '../api/client';
import type { components } from '../api/schema.gen';
import { date, moment, people, plural } from '../lib/dates';
import { Severity } from '../shared/findings';
import { roundStates, sharesOf } from '../shared/rounds';
import { Columns } from '../ui/columns';
import { Loading, Panel, Trouble } from '../ui/parts';
import { Shares } from '../ui/share';
import { month } from './periods';

type Count = components['schemas']['ReportNumber'];

/** listOf is the list that a number counts. */
function listOf(n: Count): string | undefined {
  const query = new URLSearchParams();
  if (n.list === 'people' && n.state && n.state !== 'here') query.set('kind', n.state);
  if (n.list === 'groups' && n.state) query.set('state', n.state);
  if (n.filter) query.set('filter', n.filter);
  const path = { groups: '/groups', people: '/people', externals: '/people/external' }[n.list ?? 'groups'];
  return n.list ? `${path}?${query}` : undefined;
}

/** Report is the state of the directory on one page, to show and to print. */
export default function Report() {
  const report = useQuery({ queryKey: ['review', 'report'], queryFn: () => ask(api.GET('/api/v1/report')) });
  if (!report.data) return report.error ? <Trouble error={report.error} /> : <Loading what="the report" />;
  const r = report.data;
  const found = r.findings.items.filter((k) => k.open > 0);
  return (
    <Stack gap="5">
      <HStack justify="space-between" align="end" wrap="wrap">
        <Box>
          <Heading as="h2" size="xl">
            State of the directory
          </Heading>
          <Text color="fg.muted">{moment(r.at)}</Text>
        </Box>
        <Button className="no-print" size="sm" variant="outline" colorPalette="gray" onClick={() => window.print()}>
          Print, or keep as PDF
        </Button>
      </HStack>
      <Grid templateColumns={{ base: 'minmax(0, 1fr)', md: '1fr 1fr 1fr' }} gap="5">
        <Numbers title="Groups" items={r.groups} />
        <Numbers title="People" items={r.people} />
        <Numbers title="Expiring" items={r.expiring} />
      </Grid>
      {r.days.length > 1 && (
        <Panel title="Growth, by month">
          <Grid templateColumns={{ base: 'minmax(0, 1fr)', md: '1fr 1fr 1fr' }} gap="5">
            {(
              [
                ['groups', 'living groups'],
                ['memberships', 'memberships'],
                ['external', 'external members'],
              ] as const
            ).map(([key, label]) => (
              <Box key={key}>
                <Text fontSize="sm" mb="1">
                  {label}: {r.days[0]?.[key].toLocaleString('en-GB')} then,{' '}
                  {r.days.at(-1)?.[key].toLocaleString('en-GB')} now
                </Text>
                <Columns
                  label={`${label}, by month`}
                  height="4rem"
                  columns={r.days.map((d) => ({
                    key: d.day,
                    label: month(d.day),
                    says: `${date(d.day)}: ${d[key]} ${label}`,
                    value: d[key],
                  }))}
                />
              </Box>
            ))}
          </Grid>
        </Panel>
      )}
      <Panel
        title="What the review found"
        side={<Text color="fg.muted">{plural(r.findings.open, 'open finding')}</Text>}
      >
        <table className="list">
          <thead>
            <tr>
              <th scope="col">Kind</th>
              <th scope="col" style={{ width: '7rem' }}>
                Weight
              </th>
              <th scope="col" className="num" style={{ width: '5rem' }}>
                Open
              </th>
              <th scope="col" className="num" style={{ width: '8rem' }}>
                A week ago
              </th>
              <th scope="col" className="num wide" style={{ width: '9rem' }}>
                Known and fine
              </th>
            </tr>
          </thead>
          <tbody>
            {found.map((k) => (
              <tr key={k.kind}>
                <td>
                  <Link to={`/care/findings?kind=${k.kind}`}>{k.title}</Link>
                </td>
                <td>
                  <Severity of={k.severity} />
                </td>
                <td className="num">{k.open}</td>
                <td className="num">{k.week_ago ?? '–'}</td>
                <td className="num wide">{k.accepted}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Panel>
      <Grid templateColumns={{ base: 'minmax(0, 1fr)', md: '1fr 1fr' }} gap="5" alignItems="start">
        <Panel title="External members, by domain" side={<Text color="fg.muted">{plural(r.domains, 'domain')}</Text>}>
          <Stack as="ul" gap="1" listStyleType="none" fontSize="sm">
            {r.externals.map((d) => (
              <HStack as="li" key={d.domain} justify="space-between">
                <Link to={`/people/external?domain=${d.domain}`}>{d.domain}</Link>
                <Text color="fg.muted">
                  {people(d.people)}, {plural(d.memberships, 'membership')}
                </Text>
              </HStack>
            ))}
            {r.externals.length === 0 && <Text color="fg.muted">There is none.</Text>}
          </Stack>
        </Panel>
        <Panel
          title="The biggest groups"
          side={
            <Link to="/groups?sort=-people">
              <u>All, by size</u>
            </Link>
          }
        >
          <Stack as="ul" gap="1" listStyleType="none" fontSize="sm">
            {r.biggest.map((g) => (
              <HStack as="li" key={g.group.address} justify="space-between">
                <Link to={`/groups/${g.group.address}`}>{g.group.name}</Link>
                <Text color="fg.muted">
                  {people(g.people)}
                  {g.external > 0 && `, ${g.external} external`}
                </Text>
              </HStack>
            ))}
          </Stack>
        </Panel>
      </Grid>
      {r.rounds.length > 0 && (
        <Panel title="Rounds">
          <Stack gap="4">
            {r.rounds.map((x) => (
              <Box key={x.id}>
                <HStack justify="space-between" fontSize="sm" mb="1">
                  <Link to={`/care/rounds/${x.id}`}>
                    <b>{x.name}</b>
                  </Link>
                  <Text color="fg.muted">
                    {roundStates[x.state]}, {date(x.due_on)}
                  </Text>
                </HStack>
                <Shares label={x.name} shares={sharesOf(x.counts)} />
              </Box>
            ))}
          </Stack>
        </Panel>
      )}
    </Stack>
  );
}

function Numbers({ title, items }: { title: string; items: Count[] }) {
  return (
    <Panel title={title}>
      <Stack as="ul" gap="1" listStyleType="none" fontSize="sm">
        {items.map((n) => {
          const to = listOf(n);
          return (
            <HStack as="li" key={n.name} align="baseline" gap="2">
              <Text w="4.5rem" textAlign="right" fontFamily="heading" fontSize="lg" flexShrink="0">
                {to ? <Link to={to}>{n.count.toLocaleString('en-GB')}</Link> : n.count.toLocaleString('en-GB')}
              </Text>
              <Text>{n.says}</Text>
            </HStack>
          );
        })}
      </Stack>
    </Panel>
  );
}
