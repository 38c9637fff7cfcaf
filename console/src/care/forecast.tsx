import { Box, Button, HStack, Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import { api, ask } from '../api/client';
import { plural } from '../lib/dates';
import { Calendar } from '../shared/calendar';
import { ExpressionField } from '../shared/expression';
import { Columns } from '../ui/columns';
import { Choice, Loading, Nothing, Panel, Trouble } from '../ui/parts';
import { columnsOf, spanOf } from './periods';

const ways = [
  ['rule', 'term rule'],
  ['domain', 'mail domain'],
  ['owner', 'owner'],
] as const;

/** Forecast is what expires, by week for a year and by month beyond. */
export default function Forecast() {
  const [params, setParams] = useSearchParams();
  const by = (params.get('by') ?? 'rule') as (typeof ways)[number][0];
  const filter = params.get('filter') ?? '';
  const [text, setText] = useState(filter);
  const [open, setOpen] = useState(false);
  const put = (name: string, value: string) =>
    setParams(
      (p) => {
        if (value) p.set(name, value);
        else p.delete(name);
        return p;
      },
      { replace: true },
    );
  const forecast = useQuery({
    queryKey: ['life', 'forecast', by, filter],
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.GET('/api/v1/terms/forecast', { params: { query: { by, ...(filter ? { filter } : {}) } } })),
  });
  const periods = forecast.data?.items ?? [];
  const full = periods.filter((p) => p.groups > 0);
  return (
    <Stack gap="5">
      <HStack align="end" wrap="wrap" gap="4">
        <Box w="12rem">
          <Choice label="By" value={by} choices={ways} onChange={(v) => put('by', v)} />
        </Box>
        <Button size="sm" variant="outline" colorPalette="gray" aria-expanded={open} onClick={() => setOpen(!open)}>
          {filter ? `Only where ${filter}` : 'Only some groups…'}
        </Button>
        <Box ml="auto">
          <Calendar />
        </Box>
      </HStack>
      {open && (
        <Stack gap="2">
          <ExpressionField
            label="Only groups where"
            list="groups"
            rows={1}
            placeholder="All, or such as: external gt 0"
            value={text}
            onChange={setText}
            onEnter={() => put('filter', text.trim())}
          />
          <HStack>
            <Button size="sm" variant="outline" colorPalette="ivy" onClick={() => put('filter', text.trim())}>
              Count them
            </Button>
            {filter && (
              <Button
                size="sm"
                variant="ghost"
                colorPalette="gray"
                onClick={() => {
                  setText('');
                  put('filter', '');
                }}
              >
                All groups
              </Button>
            )}
          </HStack>
        </Stack>
      )}
      <Trouble error={forecast.error} retry={() => void forecast.refetch()} />
      {!forecast.data && !forecast.error && <Loading what="what expires" />}
      {forecast.data && full.length === 0 && (
        <Nothing title="No group expires.">
          <Text>
            {filter ? 'None that the filter names.' : 'No term rule holds for any.'} See{' '}
            <Link to="/care/terms">
              <u>Terms</u>
            </Link>
            .
          </Text>
        </Nothing>
      )}
      {full.length > 0 && (
        <Panel
          title="Groups that expire, by week for a year and by month beyond"
          side={<Text color="fg.muted">{plural(forecast.data?.total ?? 0, 'group')}</Text>}
        >
          <Columns
            label="Groups that expire, by week and by month"
            columns={columnsOf(
              periods,
              (p) => p.groups,
              (p) => ({ to: `/groups?filter=${encodeURIComponent(p.filter)}` }),
            )}
          />
          <Box overflowX="auto" mt="4">
            <table className="list">
              <thead>
                <tr>
                  <th scope="col">When</th>
                  <th scope="col" className="num">
                    Groups
                  </th>
                  <th scope="col">Of them, by {ways.find(([w]) => w === by)?.[1]}</th>
                </tr>
              </thead>
              <tbody>
                {full.map((p) => (
                  <tr key={p.from}>
                    <td>{spanOf(p)}</td>
                    <td className="num">
                      <Link to={`/groups?filter=${encodeURIComponent(p.filter)}`}>
                        <u>{p.groups.toLocaleString('en-GB')}</u>
                      </Link>
                    </td>
                    <td>{(p.parts ?? []).map((x) => `${x.name} ${x.groups.toLocaleString('en-GB')}`).join(' · ')}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Box>
        </Panel>
      )}
    </Stack>
  );
}
