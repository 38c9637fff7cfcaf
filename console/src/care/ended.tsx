import { Box, Button, HStack, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { api, ask, type Bulk, type Group } from '../api/client';
import { date, people, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useList } from '../lib/use-list';
import { size } from '../shared/group-field';
import { Owners } from '../shared/owners';
import { State } from '../shared/state';
import { useMe } from '../session/me';
import { Loading, More, Nothing, Panel, Trouble } from '../ui/parts';

const daysLeft = (until: string, now: string) =>
  Math.round((new Date(until).getTime() - new Date(now.slice(0, 10)).getTime()) / 86_400_000);

/** Ended is everything that can be brought back, and what is left of the rest. */
export default function Ended() {
  return (
    <Stack gap="5">
      <Restorable />
      <Gone />
    </Stack>
  );
}

function Restorable() {
  const me = useMe();
  const navigate = useNavigate();
  const list = useList<Group>({
    key: ['group', 'ended'],
    filters: ['q', 'state', 'filter'],
    read: (query, cursor) =>
      ask(
        api.GET('/api/v1/groups', {
          params: { query: { state: ['lapsed', 'retired'], sort: 'name', limit: 50, ...query, cursor } as never },
        }),
      ),
  });
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set());
  const begin = useChange<string[], Bulk>(
    ['bulk', 'group', 'member', 'life'],
    (groups) => ask(api.POST('/api/v1/changes', { body: { groups, restore: true } })),
    { onSuccess: (b) => void navigate(`/changes/${b.id}`) },
  );
  const may = me.may.includes('change_many');
  const chosen = list.rows.filter((g) => picked.has(g.id));
  return (
    <Panel title="Can be restored" side={<Text color="fg.muted">{plural(list.total, 'group')}</Text>}>
      <HStack mb="3" wrap="wrap">
        <Input
          type="search"
          size="sm"
          maxW="19rem"
          aria-label="Search what ended"
          placeholder="Beginnings of words"
          value={list.q}
          onChange={(e) => list.setQ(e.target.value)}
        />
        <NativeSelect.Root size="sm" w="14rem">
          <NativeSelect.Field
            aria-label="How they ended"
            value={list.values('state')[0] ?? ''}
            onChange={(e) => list.set('state', e.target.value)}
          >
            <option value="">lapsed or retired</option>
            <option value="lapsed">lapsed: nobody renewed them</option>
            <option value="retired">retired by hand</option>
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
        {may && (
          <Button
            size="sm"
            colorPalette="ivy"
            ml="auto"
            disabled={chosen.length === 0}
            loading={begin.isPending}
            onClick={() => begin.mutate(chosen.map((g) => g.id))}
          >
            Restore {chosen.length > 0 ? plural(chosen.length, 'group') : 'those picked'}
          </Button>
        )}
      </HStack>
      <Trouble error={list.error ?? begin.error} />
      {!list.loaded && !list.error && <Loading what="what ended" />}
      {list.loaded && list.rows.length === 0 && (
        <Nothing title={list.filtered ? 'Nothing that ended matches.' : 'No group has ended lately.'} />
      )}
      {list.rows.length > 0 && (
        <Box overflowX="auto">
          <table className="list">
            <thead>
              <tr>
                {may && (
                  <th scope="col" style={{ width: '2.6rem' }}>
                    <input
                      type="checkbox"
                      aria-label="Pick all that are shown"
                      checked={chosen.length === list.rows.length}
                      onChange={(e) => setPicked(new Set(e.target.checked ? list.rows.map((g) => g.id) : []))}
                    />
                  </th>
                )}
                <th scope="col">Group</th>
                <th scope="col" style={{ width: '6.5rem' }}>
                  How
                </th>
                <th scope="col" style={{ width: '13rem' }}>
                  Owners
                </th>
                <th scope="col" className="num" style={{ width: '7rem' }}>
                  With
                </th>
                <th scope="col" style={{ width: '8rem' }}>
                  Ended
                </th>
                <th scope="col" style={{ width: '18rem' }}>
                  Can be restored
                </th>
              </tr>
            </thead>
            <tbody>
              {list.rows.map((g) => {
                const until = g.term.restorable_until;
                const left = until ? daysLeft(until, me.now) : 0;
                return (
                  <tr key={g.id}>
                    {may && (
                      <td>
                        <input
                          type="checkbox"
                          aria-label={`Pick ${g.name}`}
                          checked={picked.has(g.id)}
                          onChange={(e) =>
                            setPicked((all) => {
                              const next = new Set(all);
                              if (e.target.checked) next.add(g.id);
                              else next.delete(g.id);
                              return next;
                            })
                          }
                        />
                      </td>
                    )}
                    <td>
                      <Link to={`/groups/${g.address}/term`} style={{ fontWeight: 600 }}>
                        {g.name}
                      </Link>
                      <span className="under">{g.address}</span>
                    </td>
                    <td>
                      <State state={g.state} />
                    </td>
                    <td>
                      <Owners group={g} />
                    </td>
                    <td className="num">{people(size(g))}</td>
                    <td>{g.term.ended_at && date(g.term.ended_at)}</td>
                    <td>
                      {g.term.hold ? (
                        <>
                          under hold
                          <span className="under">{g.term.hold.reason}</span>
                        </>
                      ) : (
                        until && (
                          <span className={left <= 7 ? 'warn' : undefined}>
                            {left > 0
                              ? `for ${plural(left, 'day')} (until ${date(until)})`
                              : 'until it is deleted today'}
                          </span>
                        )
                      )}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
        </Box>
      )}
      <More list={list} />
    </Panel>
  );
}

function Gone() {
  const list = useList({
    key: ['group', 'gone'],
    read: (_, cursor) => ask(api.GET('/api/v1/purged-groups', { params: { query: { cursor, limit: 20 } } })),
  });
  if (!list.loaded) return <Trouble error={list.error} />;
  return (
    <Panel title="Deleted for good" side={<Text color="fg.muted">{plural(list.total, 'group')}</Text>}>
      {list.rows.length === 0 ? (
        <Text fontSize="sm" color="fg.muted">
          None yet. What can’t be restored any more leaves its name, its owners and its history here; its addresses are
          nobody’s for a time.
        </Text>
      ) : (
        <table className="list">
          <thead>
            <tr>
              <th scope="col">Group</th>
              <th scope="col">Owners</th>
              <th scope="col" className="num">
                With
              </th>
              <th scope="col">How</th>
              <th scope="col">Gone since</th>
              <th scope="col">Its addresses</th>
            </tr>
          </thead>
          <tbody>
            {list.rows.map((g) => (
              <tr key={g.id}>
                <td>
                  <Link to={`/history?filter=${encodeURIComponent(`group eq "${g.address}"`)}`}>{g.name}</Link>
                  <span className="under">{g.address}</span>
                </td>
                <td>{g.owners.join(', ')}</td>
                <td className="num">{people(g.people)}</td>
                <td>
                  {g.ended} on {date(g.ended_at)}
                </td>
                <td>{date(g.purged_at)}</td>
                <td>free from {date(g.free_on)} on</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <More list={list} />
    </Panel>
  );
}
