import { Box, Button, HStack, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask, type Group } from '../api/client';
import { date, plural } from '../ui/dates';
import { Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';
import { Requests } from '../waiting/requests';

/** WaysIn holds what stands at the door of a group: requests, invitations, links, and who is barred. */
export function WaysIn({ group: g }: { group: Group }) {
  return (
    <Stack gap="5" maxW="56rem">
      <Panel title="Requests">
        <Requests group={g.address} />
      </Panel>
      <Invitations group={g} />
      <Links group={g} />
      <Standings group={g} />
    </Stack>
  );
}

function Invitations({ group: g }: { group: Group }) {
  const path = { ref: g.address };
  const list = useQuery({
    queryKey: ['invitations', g.address],
    queryFn: () => ask(api.GET('/api/v1/groups/{ref}/invitations', { params: { path, query: { limit: 100 } } })),
  });
  const back = useMutation({
    mutationFn: (address: string) =>
      ask(api.DELETE('/api/v1/groups/{ref}/invitations/{address}', { params: { path: { ...path, address } } })),
  });
  return (
    <Panel title="Invitations that were not answered">
      <Trouble error={list.error ?? back.error} />
      {list.data?.items.length === 0 && (
        <Text color="fg.muted" fontSize="sm">
          None. Invite people on the page People.
        </Text>
      )}
      <Stack as="ul" gap="1" listStyleType="none">
        {list.data?.items.map((i) => (
          <HStack as="li" key={i.id} justify="space-between" fontSize="sm" wrap="wrap">
            <Text>
              <b>{i.address}</b> as {i.role}, by {i.made_by}; ends {date(i.expires_at)}
            </Text>
            <Button
              size="xs"
              variant="outline"
              colorPalette="gray"
              aria-label={`Call back the invitation to ${i.address}`}
              onClick={() => back.mutate(i.address)}
            >
              Call back
            </Button>
          </HStack>
        ))}
      </Stack>
      {list.data && list.data.total > list.data.items.length && <Text fontSize="sm">of {list.data.total}</Text>}
    </Panel>
  );
}

function Links({ group: g }: { group: Group }) {
  const path = { ref: g.address };
  const [days, setDays] = useState('14');
  const [most, setMost] = useState('');
  const [note, setNote] = useState('');
  const list = useQuery({
    queryKey: ['join-links', g.address],
    queryFn: () => ask(api.GET('/api/v1/groups/{ref}/join-links', { params: { path } })),
  });
  const make = useMutation({
    mutationFn: () =>
      ask(
        api.POST('/api/v1/groups/{ref}/join-links', {
          params: { path },
          body: { days: Number(days) || 14, most: Number(most) || 0, note },
        }),
      ),
    onSuccess: () => setNote(''),
  });
  const back = useMutation({
    mutationFn: (id: string) =>
      ask(api.DELETE('/api/v1/groups/{ref}/join-links/{id}', { params: { path: { ...path, id } } })),
    onSuccess: () => make.reset(),
  });
  return (
    <Panel title="Links to join by">
      <Stack gap="3">
        <Text color="fg.muted" fontSize="sm">
          Whoever in the workspace has the link can enter, whatever the group says about joining.
        </Text>
        {!g.term.ended_at && (
          <HStack wrap="wrap" fontSize="sm">
            <label>
              for{' '}
              <Input
                size="xs"
                w="4rem"
                type="number"
                min="1"
                max="365"
                value={days}
                onChange={(e) => setDays(e.target.value)}
              />{' '}
              days,
            </label>
            <label>
              at most{' '}
              <Input
                size="xs"
                w="5rem"
                type="number"
                min="0"
                placeholder="any"
                value={most}
                onChange={(e) => setMost(e.target.value)}
              />{' '}
              people
            </label>
            <Input
              size="xs"
              w="14rem"
              aria-label="Whom the link is for"
              placeholder="Whom it is for"
              value={note}
              onChange={(e) => setNote(e.target.value)}
            />
            <Button
              size="xs"
              colorPalette="ivy"
              variant="outline"
              loading={make.isPending}
              onClick={() => make.mutate()}
            >
              Make a link
            </Button>
          </HStack>
        )}
        <Trouble error={make.error ?? back.error ?? list.error} />
        {make.data && (
          <Box borderLeftWidth="4px" borderColor="ivy.solid" pl="3" fontSize="sm">
            <Text>Copy it now; it is not shown again.</Text>
            <HStack>
              <code style={{ overflowWrap: 'anywhere' }} data-testid="link">
                {make.data.url}
              </code>
              <Button
                size="2xs"
                variant="outline"
                colorPalette="gray"
                onClick={() => {
                  void navigator.clipboard.writeText(make.data.url ?? '');
                  toaster.create({ type: 'success', title: 'The link is copied' });
                }}
              >
                Copy
              </Button>
            </HStack>
          </Box>
        )}
        <Stack as="ul" gap="1" listStyleType="none">
          {list.data?.map((l) => (
            <HStack as="li" key={l.id} justify="space-between" fontSize="sm" wrap="wrap">
              <Text>
                <b>{l.note || 'A link'}</b>, used by {l.most > 0 ? `${l.uses} of ${l.most}` : l.uses}; ends{' '}
                {date(l.expires_at)}; by {l.made_by}
              </Text>
              <Button size="xs" variant="outline" colorPalette="gray" onClick={() => back.mutate(l.id)}>
                Call back
              </Button>
            </HStack>
          ))}
        </Stack>
      </Stack>
    </Panel>
  );
}

const standingWords = { barred: 'is barred', trusted: 'is trusted: never held', held: 'is always held' };

function Standings({ group: g }: { group: Group }) {
  const path = { ref: g.address };
  const [address, setAddress] = useState('');
  const [standing, setStanding] = useState('barred');
  const [reason, setReason] = useState('');
  const list = useQuery({
    queryKey: ['standings', g.address],
    queryFn: () => ask(api.GET('/api/v1/groups/{ref}/standings', { params: { path } })),
  });
  const set = useMutation({
    mutationFn: (s: { address: string; standing: string; reason: string }) =>
      ask(
        api.PUT('/api/v1/groups/{ref}/standings/{address}', {
          params: { path: { ...path, address: s.address } },
          body: { standing: s.standing, reason: s.reason },
        }),
      ),
    onSuccess: () => {
      setAddress('');
      setReason('');
    },
  });
  return (
    <Panel title="Settled about people">
      <Stack gap="3">
        <Text color="fg.muted" fontSize="sm">
          What is settled about a person goes before what the group says. Whoever is barred is taken out, can’t join,
          ask or be added, and can’t write to it.
        </Text>
        <HStack
          as="form"
          wrap="wrap"
          onSubmit={(e) => {
            e.preventDefault();
            set.mutate({ address, standing, reason });
          }}
        >
          <Input
            size="sm"
            w="16rem"
            aria-label="Address"
            name="standing-address"
            placeholder="Address"
            value={address}
            onChange={(e) => setAddress(e.target.value)}
          />
          <NativeSelect.Root size="sm" w="9rem">
            <NativeSelect.Field aria-label="Standing" value={standing} onChange={(e) => setStanding(e.target.value)}>
              <option value="barred">bar</option>
              <option value="trusted">trust</option>
              <option value="held">hold</option>
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
          <Input
            size="sm"
            w="16rem"
            aria-label="Why"
            placeholder="Why"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          />
          <Button
            size="sm"
            type="submit"
            variant="outline"
            colorPalette={standing === 'barred' ? 'red' : 'ivy'}
            disabled={address === ''}
            loading={set.isPending}
          >
            Settle it
          </Button>
        </HStack>
        <Trouble error={set.error ?? list.error} />
        <Stack as="ul" gap="1" listStyleType="none">
          {list.data?.map((s) => (
            <HStack as="li" key={s.address} justify="space-between" fontSize="sm" wrap="wrap">
              <Text>
                <b>{s.name || s.address}</b> {standingWords[s.standing]}
                {s.reason && `: ${s.reason}`}. By {s.by}, {date(s.at)}
              </Text>
              <Button
                size="xs"
                variant="outline"
                colorPalette="gray"
                aria-label={`Lift what is settled about ${s.address}`}
                onClick={() => set.mutate({ address: s.address, standing: 'none', reason: '' })}
              >
                Lift
              </Button>
            </HStack>
          ))}
        </Stack>
        {list.data?.length === 0 && <Text fontSize="sm">{plural(0, 'person', 'people')} so far.</Text>}
      </Stack>
    </Panel>
  );
}
