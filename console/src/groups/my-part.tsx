import { Button, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask, type Group } from '../api/client';
import { date } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useMe } from '../session/me';
import { deliveries, type Delivery } from '../shared/delivery';
import { Choice, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';

/** useJoining joins or leaves a group, or asks to. */
export function useJoining(g: Group) {
  return useChange(
    ['group', 'member', 'joining'],
    (w: { leave: boolean; note: string }) => {
      const params = { path: { ref: g.address } };
      const body = { note: w.note };
      return w.leave
        ? ask(api.POST('/api/v1/groups/{ref}/leaving', { params, body }))
        : ask(api.POST('/api/v1/groups/{ref}/joining', { params, body }));
    },
    { onSuccess: (r) => toaster.create({ type: 'success', title: r.says }) },
  );
}

/** useMyRequests returns what I asked for and nobody has decided. */
export function useMyRequests() {
  const requests = useQuery({
    queryKey: ['joining', 'mine'],
    queryFn: () => ask(api.GET('/api/v1/requests', { params: { query: { mine: true, limit: 100 } } })),
  });
  return requests.data?.items.filter((r) => r.state === 'open') ?? [];
}

/** MyPart says what I am in a group, and lets me join, leave, choose delivery and write to its owners. */
export function MyPart({ group: g }: { group: Group }) {
  const me = useMe();
  const [note, setNote] = useState('');
  const [leaving, setLeaving] = useState(false);
  const joining = useJoining(g);
  const open = useMyRequests().find((r) => r.group.address === g.address);
  const own = useQuery({
    queryKey: ['member', g.id, 'me'],
    enabled: g.my_role !== 'none',
    queryFn: () => ask(api.GET('/api/v1/groups/{ref}/my-part', { params: { path: { ref: g.address } } })),
  });
  const self = own.data?.state === 'in' ? own.data : undefined;
  const delivery = useChange(
    ['member'],
    (d: Delivery) =>
      ask(
        api.PATCH('/api/v1/groups/{ref}/members/{member}', {
          params: { path: { ref: g.address, member: me.address } },
          body: { delivery: d },
        }),
      ),
    { onSuccess: () => toaster.create({ type: 'success', title: 'Your delivery is changed' }) },
  );
  const withdraw = useChange(['joining'], (id: string) =>
    ask(api.DELETE('/api/v1/requests/{id}', { params: { path: { id } } })),
  );
  const asking = g.my_role === 'none' ? g.join.how === 'asking' : g.leave === 'asking' && g.my_role !== 'owner';
  return (
    <Panel title="My part">
      <Stack gap="3" fontSize="sm">
        <Text>
          {g.my_role === 'none'
            ? 'You are not in it.'
            : g.my_role === 'owner'
              ? 'You are an owner.'
              : `You are a ${g.my_role}.`}
        </Text>
        {g.term.ended_at ? null : open ? (
          <HStack>
            <Text>
              You asked to {open.kind} on {date(open.made_at)}; its owners have not decided yet.
            </Text>
            <Button
              size="xs"
              variant="outline"
              colorPalette="gray"
              loading={withdraw.isPending}
              onClick={() => withdraw.mutate(open.id)}
            >
              Take it back
            </Button>
          </HStack>
        ) : g.my_role === 'none' ? (
          g.join.audience === 'nobody' ? (
            <Text color="fg.muted">It takes people by invitation only.</Text>
          ) : (
            <>
              {asking && (
                <Input
                  size="sm"
                  aria-label="What to say to its owners"
                  placeholder="What to say to its owners"
                  value={note}
                  onChange={(e) => setNote(e.target.value)}
                />
              )}
              <Button
                size="sm"
                alignSelf="start"
                colorPalette="ivy"
                loading={joining.isPending}
                onClick={() => joining.mutate({ leave: false, note })}
              >
                {asking ? `Ask to join ${g.name}` : `Join ${g.name}`}
              </Button>
            </>
          )
        ) : (
          <HStack wrap="wrap">
            {self && (
              <Choice
                label="Its mail reaches me as"
                value={self.delivery}
                choices={Object.entries(deliveries)}
                onChange={(d) => delivery.mutate(d as Delivery)}
              />
            )}
            {g.leave === 'fixed' ? (
              <Text color="fg.muted">Its members are fixed: nobody leaves by themselves.</Text>
            ) : leaving ? (
              <>
                <Button
                  size="xs"
                  variant="outline"
                  colorPalette="red"
                  loading={joining.isPending}
                  onClick={() => joining.mutate({ leave: true, note: '' })}
                >
                  {asking ? `Ask to leave ${g.name}` : `Leave ${g.name}`}
                </Button>
                <Button size="xs" variant="ghost" colorPalette="gray" onClick={() => setLeaving(false)}>
                  Stay
                </Button>
              </>
            ) : (
              <Button size="xs" variant="ghost" colorPalette="gray" onClick={() => setLeaving(true)}>
                Leave…
              </Button>
            )}
          </HStack>
        )}
        <Text>
          Write to its owners:{' '}
          <a href={`mailto:${g.address.replace('@', '-owners@')}`}>
            <u>{g.address.replace('@', '-owners@')}</u>
          </a>
        </Text>
        <Trouble error={joining.error ?? withdraw.error ?? delivery.error} />
      </Stack>
    </Panel>
  );
}
