import { Box, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, ask, type Group, type Nesting } from '../api/client';
import { people } from '../lib/dates';
import { useList } from '../lib/use-list';
import { Loading, More, Nothing, Panel, Trouble } from '../ui/parts';
import { useMe } from '../session/me';
import { Consents } from './consents';
import { useGroup } from './page';

/** Nesting draws what is nested in a group and what it is nested in, and lists whom it reaches. */
export default function GroupNesting() {
  const g = useGroup();
  const me = useMe();
  const nesting = useQuery({
    queryKey: ['member', 'nesting', g.id],
    queryFn: () => ask(api.GET('/api/v1/groups/{ref}/nesting', { params: { path: { ref: g.address } } })),
  });
  return (
    <Stack gap="5">
      <Panel title="Groups in groups">
        <Trouble error={nesting.error} />
        {nesting.data ? <Drawing tree={nesting.data} self={g.id} /> : <Loading what="the nesting" />}
      </Panel>
      {(g.may?.includes('add_people') || g.may?.includes('change') || me.workspace_role === 'auditor') && (
        <Consents group={g} />
      )}
      <EffectiveMembers group={g} />
    </Stack>
  );
}

const box = { w: 190, h: 46, gapX: 56, gapY: 14 };

/** Drawing shows groups as boxes, outer ones to the left, with a line to each that is nested in them. */
function Drawing({ tree, self }: { tree: Nesting; self: string }) {
  if (tree.groups.length === 1) {
    return (
      <Text color="fg.muted" fontSize="sm">
        No group is nested in it, and it is nested in none.
      </Text>
    );
  }
  const depths = [...new Set(tree.groups.map((x) => x.depth))].sort((a, b) => a - b);
  const place = new Map<string, { x: number; y: number }>();
  let rows = 0;
  for (const d of depths) {
    const column = tree.groups.filter((x) => x.depth === d);
    rows = Math.max(rows, column.length);
    column.forEach((x, i) =>
      place.set(x.id, { x: (d - (depths[0] ?? 0)) * (box.w + box.gapX), y: i * (box.h + box.gapY) }),
    );
  }
  const width = depths.length * (box.w + box.gapX) - box.gapX + 4;
  const height = rows * (box.h + box.gapY);
  const below = (id: string) => tree.edges.filter((e) => e.outer === id).map((e) => e.inner);
  const name = (id: string) => tree.groups.find((x) => x.id === id)?.name ?? '';
  return (
    <Stack gap="3">
      <Box overflowX="auto" tabIndex={0} role="region" aria-label="Picture of the nesting">
        <svg
          width={width}
          height={height}
          role="img"
          aria-label={`${tree.groups.length} groups, ${tree.edges.length} nestings`}
        >
          {tree.edges.map((e) => {
            const a = place.get(e.outer);
            const b = place.get(e.inner);
            if (!a || !b) return null;
            const [x1, y1, x2, y2] = [a.x + box.w, a.y + box.h / 2 + 2, b.x + 2, b.y + box.h / 2 + 2];
            return (
              <path
                key={e.outer + e.inner}
                d={`M${x1} ${y1} C${x1 + 30} ${y1} ${x2 - 30} ${y2} ${x2} ${y2}`}
                fill="none"
                stroke="var(--ivy-colors-ivy-border)"
                strokeWidth="2"
              />
            );
          })}
          {tree.groups.map((x) => {
            const p = place.get(x.id) ?? { x: 0, y: 0 };
            return (
              <foreignObject key={x.id} x={p.x + 2} y={p.y + 2} width={box.w - 2} height={box.h}>
                <Link
                  to={`/groups/${x.address}/nesting`}
                  className={`tree-box ${x.id === self ? 'self' : ''}`}
                  title={x.address}
                >
                  <b>{x.name}</b>
                  <span>{people(x.people)}</span>
                </Link>
              </foreignObject>
            );
          })}
        </svg>
      </Box>
      <Text fontSize="sm" color="fg.muted">
        {tree.groups
          .filter((x) => below(x.id).length > 0)
          .map((x) => `${x.name} holds ${below(x.id).map(name).join(', ')}.`)
          .join(' ')}{' '}
        {tree.depth} of at most {tree.deepest_allowed} deep.
      </Text>
    </Stack>
  );
}

function EffectiveMembers({ group: g }: { group: Group }) {
  const list = useList({
    key: ['member', 'effective', g.id],
    filters: ['q'],
    read: (query, cursor) =>
      ask(
        api.GET('/api/v1/groups/{ref}/effective-members', {
          params: { path: { ref: g.id }, query: { ...(query as object), cursor, limit: 100 } },
        }),
      ),
  });
  return (
    <Panel title="Whom it reaches">
      <HStack mb="3" wrap="wrap">
        <Input
          size="sm"
          maxW="18rem"
          type="search"
          aria-label="Search whom it reaches"
          placeholder="Filter people"
          value={list.q}
          onChange={(e) => list.setQ(e.target.value)}
        />
        <Text fontSize="sm" color="fg.muted" aria-live="polite">
          {list.loaded && `${people(list.total)}, each once. ${list.hidden ?? ''}`}
        </Text>
      </HStack>
      <Trouble error={list.error} retry={list.retry} />
      {!list.loaded ? (
        <Loading what="people" />
      ) : list.rows.length === 0 ? (
        <Nothing title={list.filtered ? 'Nobody matches.' : 'It reaches nobody.'} />
      ) : (
        <Box overflowX="auto">
          <table className="list" style={{ minWidth: '42rem' }}>
            <thead>
              <tr>
                <th scope="col">Person</th>
                <th scope="col" style={{ width: '9rem' }}>
                  Own role
                </th>
                <th scope="col">Through</th>
              </tr>
            </thead>
            <tbody>
              {list.rows.map((r) => (
                <tr key={r.id}>
                  <td>
                    <span className="name">{r.name}</span>
                    {r.name !== r.address && <span className="under">{r.address}</span>}
                  </td>
                  <td>{r.role === 'none' ? '–' : r.role}</td>
                  <td title={r.through.join(', ')}>{r.through.join(', ')}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Box>
      )}
      <More list={list} />
    </Panel>
  );
}
