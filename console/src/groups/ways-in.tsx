import { Box, Button, HStack, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { api, ask, type Group } from '../api/client';
import { date } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useDraft } from '../lib/use-draft';
import { useList } from '../lib/use-list';
import { Requests } from '../shared/requests';
import { More, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';
import { useGroup } from './page';

/** WaysIn holds what stands at the door of a group: requests, invitations, links, and who is barred. */
export default function WaysIn() {
  const g = useGroup();
  return (
    <Stack gap="5" maxW="56rem">
      <Panel title="Requests">
        <Requests group={g.address} />
      </Panel>
      <Invitations group={g} />
      <Links group={g} />
      <Overrides group={g} />
    </Stack>
  );
}

function Invitations({ group: g }: { group: Group }) {
  const list = useList({
    key: ['joining', 'invitations', g.id],
    read: (_, cursor) =>
      ask(
        api.GET('/api/v1/groups/{ref}/invitations', { params: { path: { ref: g.id }, query: { cursor, limit: 50 } } }),
      ),
  });
  const back = useChange(['joining'], (address: string) =>
    ask(api.DELETE('/api/v1/groups/{ref}/invitations/{address}', { params: { path: { ref: g.id, address } } })),
  );
  return (
    <Panel title="Invitations that were not answered">
      <Trouble error={list.error ?? back.error} />
      {list.loaded && list.rows.length === 0 && (
        <Text color="fg.muted" fontSize="sm">
          None. Invite people on the page People.
        </Text>
      )}
      <Stack as="ul" gap="1" listStyleType="none">
        {list.rows.map((i) => (
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
      <More list={list} />
    </Panel>
  );
}

function Links({ group: g }: { group: Group }) {
  const path = { ref: g.id };
  const list = useList({
    key: ['joining', 'links', g.id],
    read: (_, cursor) =>
      ask(api.GET('/api/v1/groups/{ref}/join-links', { params: { path, query: { cursor, limit: 50 } } })),
  });
  const [url, setURL] = useState('');
  const draft = useDraft({
    saved: { days: '14', max: '', note: '' },
    touches: ['joining'],
    save: (v) =>
      ask(
        api.POST('/api/v1/groups/{ref}/join-links', {
          params: { path },
          body: { days: Number(v.days) || 14, max: Number(v.max) || 0, note: v.note },
        }),
      ),
    onSaved: (l) => {
      setURL(l.url ?? '');
      draft.drop();
    },
  });
  const back = useChange(
    ['joining'],
    (id: string) => ask(api.DELETE('/api/v1/groups/{ref}/join-links/{id}', { params: { path: { ...path, id } } })),
    { onSuccess: () => setURL('') },
  );
  return (
    <Panel title="Links to join by">
      <Stack gap="3">
        <Text color="fg.muted" fontSize="sm">
          Whoever in the workspace has the link can enter, whatever the group says about joining.
        </Text>
        {!g.term.ended_at && (
          <HStack as="form" wrap="wrap" fontSize="sm" onSubmit={(e) => void draft.save(e)}>
            <label>
              for <Input size="xs" w="4rem" type="number" min="1" max="365" {...draft.register('days')} /> days,
            </label>
            <label>
              at most <Input size="xs" w="5rem" type="number" min="0" placeholder="any" {...draft.register('max')} />{' '}
              people
            </label>
            <Input
              size="xs"
              w="14rem"
              aria-label="Whom the link is for"
              placeholder="Whom it is for"
              {...draft.register('note')}
            />
            <Button size="xs" type="submit" colorPalette="ivy" variant="outline" loading={draft.saving}>
              Make a link
            </Button>
          </HStack>
        )}
        <Trouble error={draft.error ?? back.error ?? list.error} />
        {url && (
          <Box borderLeftWidth="4px" borderColor="ivy.solid" pl="3" fontSize="sm">
            <Text>Copy it now; it is not shown again.</Text>
            <HStack>
              <code style={{ overflowWrap: 'anywhere' }} data-testid="link">
                {url}
              </code>
              <Button
                size="2xs"
                variant="outline"
                colorPalette="gray"
                onClick={() => {
                  void navigator.clipboard.writeText(url);
                  toaster.create({ type: 'success', title: 'The link is copied' });
                }}
              >
                Copy
              </Button>
            </HStack>
          </Box>
        )}
        <Stack as="ul" gap="1" listStyleType="none">
          {list.rows.map((l) => (
            <HStack as="li" key={l.id} justify="space-between" fontSize="sm" wrap="wrap">
              <Text>
                <b>{l.note || 'A link'}</b>, used by {l.max > 0 ? `${l.uses} of ${l.max}` : l.uses}; ends{' '}
                {date(l.expires_at)}; by {l.made_by}
              </Text>
              <Button size="xs" variant="outline" colorPalette="gray" onClick={() => back.mutate(l.id)}>
                Call back
              </Button>
            </HStack>
          ))}
        </Stack>
        <More list={list} />
      </Stack>
    </Panel>
  );
}

const overrideWords = { barred: 'is barred', trusted: 'is trusted: never held', held: 'is always held' };
type Settled = keyof typeof overrideWords | 'none';

function Overrides({ group: g }: { group: Group }) {
  const path = { ref: g.id };
  const list = useList({
    key: ['member', 'overrides', g.id],
    read: async (_, cursor) => {
      const page = await ask(
        api.GET('/api/v1/groups/{ref}/overrides', { params: { path, query: { cursor, limit: 50 } } }),
      );
      return { ...page, items: page.items.map((o) => ({ ...o, id: o.address })) };
    },
  });
  const put = (address: string, override: Settled, reason: string) =>
    ask(
      api.PUT('/api/v1/groups/{ref}/overrides/{address}', {
        params: { path: { ...path, address } },
        body: { override, reason },
      }),
    );
  const touches = ['group', 'member', 'joining', 'person'] as const;
  const draft = useDraft({
    saved: { address: '', override: 'barred' as Settled, reason: '' },
    touches: [...touches],
    save: (v) => put(v.address, v.override, v.reason),
    onSaved: () => draft.drop(),
  });
  const lift = useChange([...touches], (address: string) => put(address, 'none', ''));
  return (
    <Panel title="Settled about people">
      <Stack gap="3">
        <Text color="fg.muted" fontSize="sm">
          What is settled about a person goes before what the group says. Whoever is barred is taken out, can't join,
          ask or be added, and can't write to it.
        </Text>
        <HStack as="form" wrap="wrap" onSubmit={(e) => void draft.save(e)}>
          <Input size="sm" w="16rem" aria-label="Address" placeholder="Address" {...draft.register('address')} />
          <NativeSelect.Root size="sm" w="9rem">
            <NativeSelect.Field aria-label="What is settled" {...draft.register('override')}>
              <option value="barred">bar</option>
              <option value="trusted">trust</option>
              <option value="held">hold</option>
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
          <Input size="sm" w="16rem" aria-label="Why" placeholder="Why" {...draft.register('reason')} />
          <Button size="sm" type="submit" variant="outline" colorPalette="ivy" loading={draft.saving}>
            Settle it
          </Button>
        </HStack>
        {draft.problem('address') && (
          <Text role="alert" className="warn" fontSize="sm">
            {draft.problem('address')}
          </Text>
        )}
        <Trouble error={draft.error ?? lift.error ?? list.error} />
        <Stack as="ul" gap="1" listStyleType="none">
          {list.rows.map((s) => (
            <HStack as="li" key={s.address} justify="space-between" fontSize="sm" wrap="wrap">
              <Text>
                <b>{s.name || s.address}</b> {overrideWords[s.override]}
                {s.reason && `: ${s.reason}`}. By {s.by}, {date(s.at)}
              </Text>
              <Button
                size="xs"
                variant="outline"
                colorPalette="gray"
                aria-label={`Lift what is settled about ${s.address}`}
                onClick={() => lift.mutate(s.address)}
              >
                Lift
              </Button>
            </HStack>
          ))}
        </Stack>
        {list.loaded && list.rows.length === 0 && <Text fontSize="sm">Nothing is settled about anybody.</Text>}
        <More list={list} />
      </Stack>
    </Panel>
  );
}
