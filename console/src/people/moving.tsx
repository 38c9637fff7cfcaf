import { Box, Button, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask, type Line, type PersonDetails } from '../api/client';
import { plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { GroupField } from '../shared/group-field';
import { PeoplePicker } from '../shared/people-picker';
import { Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';

type Named = { address: string; name: string };

/** Moving puts somebody into groups, or into those of a colleague, and takes them out of others, in one change. */
export function Moving({ person: p }: { person: PersonDetails }) {
  const [open, setOpen] = useState(false);
  const [like, setLike] = useState<Named | null>(null);
  const [join, setJoin] = useState<string[]>([]);
  const [leave, setLeave] = useState<string[]>([]);
  const [not, setNot] = useState<string[]>([]); // of the colleague's, those that are not wanted
  const [until, setUntil] = useState('');
  const [round, setRound] = useState(0);
  const shared = useQuery({
    queryKey: ['person', 'moves', p.id, like?.address],
    enabled: open && like !== null,
    queryFn: () =>
      ask(
        api.POST('/api/v1/people/{ref}/moves/preview', {
          params: { path: { ref: p.id } },
          body: { like: like?.address ?? '' },
        }),
      ),
  });
  const offered = like ? (shared.data?.sample ?? []).filter((l) => l.outcome === 'added') : [];
  const wanted = [...join, ...offered.filter((l) => !not.includes(l.address ?? '')).map((l) => l.address ?? '')];
  const body = { join: wanted.map((group) => ({ group })), leave, ...(until ? { until } : {}) };
  const something = wanted.length + leave.length > 0;
  const preview = useQuery({
    queryKey: ['person', 'moves', p.id, body],
    enabled: open && something,
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.POST('/api/v1/people/{ref}/moves/preview', { params: { path: { ref: p.id } }, body })),
  });
  const close = () => {
    setOpen(false);
    setLike(null);
    setJoin([]);
    setLeave([]);
    setNot([]);
    setUntil('');
  };
  const move = useChange(
    ['person', 'group', 'member'],
    () => ask(api.POST('/api/v1/people/{ref}/moves', { params: { path: { ref: p.id } }, body })),
    {
      onSuccess: (r) => {
        const refused = r.results.filter((x) => x.outcome === 'refused');
        toaster.create({
          type: refused.length ? 'warning' : 'success',
          title: r.says,
          description: refused.map((x) => `${x.name}: ${x.says}`).join(' '),
        });
        close();
      },
    },
  );
  const refused = (something && preview.data ? preview.data.sample : []).filter((l) => l.outcome === 'refused');
  if (!open)
    return (
      <Button size="sm" alignSelf="start" variant="outline" colorPalette="gray" onClick={() => setOpen(true)}>
        Change their groups…
      </Button>
    );
  return (
    <Panel title={`Change the groups of ${p.name}`}>
      <Stack gap="4">
        <Box>
          <Text fontSize="sm" fontWeight="600" mb="1">
            The same groups as a colleague
          </Text>
          {like ? (
            <Stack gap="1">
              <Button size="xs" alignSelf="start" variant="subtle" colorPalette="ivy" onClick={() => setLike(null)}>
                {like.name} ×
              </Button>
              <Trouble error={shared.error} />
              {offered.map((l) => (
                <Choose
                  key={l.address}
                  line={l}
                  on={!not.includes(l.address ?? '')}
                  set={(on) => setNot(on ? not.filter((x) => x !== l.address) : [...not, l.address ?? ''])}
                />
              ))}
              {shared.data && <Others lines={shared.data.sample.filter((l) => l.outcome !== 'added')} />}
            </Stack>
          ) : (
            <PeoplePicker
              label="A colleague"
              placeholder="Begin to type a name"
              taken={[p.address]}
              onPick={(address, name) => setLike({ address, name })}
            />
          )}
        </Box>
        <Box>
          <Text fontSize="sm" fontWeight="600" mb="1">
            Come into
          </Text>
          <HStack wrap="wrap" mb="1">
            {join.map((x) => (
              <Button
                key={x}
                size="xs"
                variant="subtle"
                colorPalette="ivy"
                onClick={() => setJoin(join.filter((y) => y !== x))}
              >
                {x} ×
              </Button>
            ))}
          </HStack>
          <GroupField
            key={round}
            label="A group to come into"
            onPick={(address) => {
              if (address && !join.includes(address)) setJoin([...join, address]);
              setRound(round + 1);
            }}
          />
        </Box>
        {p.groups.some((g) => !g.by_rule && !g.ended) && (
          <Box>
            <Text fontSize="sm" fontWeight="600" mb="1">
              Go out of
            </Text>
            <Stack gap="1">
              {p.groups
                .filter((g) => !g.by_rule && !g.ended)
                .map((g) => (
                  <label key={g.address}>
                    <input
                      type="checkbox"
                      checked={leave.includes(g.address)}
                      onChange={(e) =>
                        setLeave(e.target.checked ? [...leave, g.address] : leave.filter((x) => x !== g.address))
                      }
                    />{' '}
                    <Text as="span" fontSize="sm">
                      {g.name}
                    </Text>
                  </label>
                ))}
            </Stack>
          </Box>
        )}
        <Box as="label" fontSize="sm" maxW="14rem">
          Last day in what they join
          <Input size="sm" type="date" value={until} onChange={(e) => setUntil(e.target.value)} />
        </Box>
        <Box aria-live="polite" fontSize="sm">
          {something && preview.data && <Text fontWeight="600">{preview.data.says}</Text>}
          {refused.map((l) => (
            <Text key={l.address} className="warn">
              {l.name}: {l.says}
            </Text>
          ))}
        </Box>
        <Trouble error={preview.error ?? move.error} />
        <HStack>
          <Button
            size="sm"
            colorPalette="ivy"
            disabled={!something || !preview.data?.ready}
            loading={move.isPending}
            onClick={() => move.mutate()}
          >
            {something ? `Change ${plural(preview.data?.ready ?? 0, 'group')}` : 'Change'}
          </Button>
          <Button size="sm" variant="ghost" colorPalette="gray" onClick={close}>
            Leave it
          </Button>
        </HStack>
      </Stack>
    </Panel>
  );
}

function Choose({ line: l, on, set }: { line: Line; on: boolean; set: (on: boolean) => void }) {
  return (
    <label>
      <input type="checkbox" checked={on} onChange={(e) => set(e.target.checked)} />{' '}
      <Text as="span" fontSize="sm">
        {l.name}{' '}
        <Text as="span" color="fg.muted">
          {l.address}
        </Text>
      </Text>
    </label>
  );
}

/** Others are the colleague's groups that somebody can't be put into, or is in. */
function Others({ lines }: { lines: Line[] }) {
  if (lines.length === 0) return null;
  return (
    <Box as="details" fontSize="sm" color="fg.muted">
      <summary>{plural(lines.length, 'group')} more, where nothing is to be done</summary>
      <Stack as="ul" gap="0" listStyleType="none">
        {lines.map((l) => (
          <li key={l.address}>
            {l.name}: {l.says || 'they are in it already'}
          </li>
        ))}
      </Stack>
    </Box>
  );
}
