import { Box, Button, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { api, ask, type Group } from '../api/client';
import { date, inDays, people } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { size } from '../shared/group-field';
import { Fact, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';
import { useGroup } from './page';

export default function Term() {
  const g = useGroup();
  const params = { path: { ref: g.id }, header: { 'If-Match': `"${g.version}"` } };
  const t = g.term;
  const may = (what: string) => g.may?.includes(what) ?? false;
  const all = people(size(g));
  const renew = useChange(['group', 'life'], () => ask(api.POST('/api/v1/groups/{ref}/renewal', { params })), {
    onSuccess: (n) =>
      toaster.create({
        type: 'success',
        title: `${n.name} is renewed`,
        description: `It expires ${inDays(n.term.expires_on, n.term.days_left)}.`,
      }),
  });
  const retire = useChange(['group', 'life', 'person'], () => ask(api.DELETE('/api/v1/groups/{ref}', { params })));
  const restore = useChange(
    ['group', 'life', 'member', 'person'],
    () => ask(api.POST('/api/v1/groups/{ref}/restoration', { params })),
    {
      onSuccess: (n) =>
        toaster.create({
          type: 'success',
          title: `${n.name} is back`,
          description: `With its ${all} and its addresses.`,
        }),
    },
  );
  return (
    <Stack gap="5" maxW="48rem">
      <Panel title="How long it lives">
        <Stack gap="4">
          {t.ended_at ? (
            <Text fontSize="lg">
              It {g.state === 'retired' ? 'was retired' : 'lapsed'} on {date(t.ended_at)} and takes no mail.
              {t.restorable_until && ` It can be restored, with its ${all}, until ${date(t.restorable_until)}.`}
            </Text>
          ) : t.exempt ? (
            <Text fontSize="lg">
              It is exempt: it never expires. {t.exempt.by} said so: “{t.exempt.reason}”.
            </Text>
          ) : t.expires_on ? (
            <Text fontSize="lg">
              It expires {inDays(t.expires_on, t.days_left)}
              {g.state === 'due' ? '. Renew it if it is still needed.' : '.'}
            </Text>
          ) : (
            <Text fontSize="lg">It never expires: the workspace sets no term for it.</Text>
          )}
          {t.expires_on && <Span from={t.renewed_at} to={t.expires_on} left={t.days_left ?? 0} />}
          <Stack as="dl" gap="1">
            <Fact name="Renewed">{date(t.renewed_at)}</Fact>
            <Fact name="Made">{date(g.created_at)}</Fact>
          </Stack>
          <Trouble error={renew.error ?? retire.error ?? restore.error} />
          <HStack>
            {t.ended_at
              ? may('restore') && (
                  <Button colorPalette="ivy" loading={restore.isPending} onClick={() => restore.mutate()}>
                    Restore {g.name}
                  </Button>
                )
              : may('renew') &&
                t.expires_on && (
                  <Button colorPalette="ivy" loading={renew.isPending} onClick={() => renew.mutate()}>
                    Renew {g.name}
                  </Button>
                )}
            {!t.ended_at && may('retire') && (
              <Button variant="outline" colorPalette="red" loading={retire.isPending} onClick={() => retire.mutate()}>
                Retire {g.name} (restorable for 30 days)
              </Button>
            )}
          </HStack>
        </Stack>
      </Panel>
      {may('term') && !t.ended_at && <Exempt group={g} />}
    </Stack>
  );
}

/** Span draws the term as a line with today on it. */
function Span({ from, to, left }: { from: string; to: string; left: number }) {
  const whole = Math.max(1, Math.round((new Date(to).getTime() - new Date(from).getTime()) / 86_400_000));
  const gone = Math.min(100, Math.max(0, (100 * (whole - left)) / whole));
  return (
    <Box aria-label={`${whole - left} of ${whole} days have passed`} role="img">
      <Box h="3" bg="bg.muted" borderRadius="full" overflow="hidden" borderWidth="1px">
        <Box h="full" w={`${gone}%`} bg={left <= 30 ? 'brass.solid' : 'ivy.solid'} />
      </Box>
      <HStack justify="space-between" fontSize="xs" color="fg.muted" mt="1">
        <span>renewed {date(from)}</span>
        <span>
          {whole - left} of {whole} days
        </span>
        <span>expires {date(to)}</span>
      </HStack>
    </Box>
  );
}

function Exempt({ group: g }: { group: Group }) {
  const [reason, setReason] = useState('');
  const save = useChange(
    ['group', 'life'],
    (exempt: string) => ask(api.PATCH('/api/v1/groups/{ref}', { params: { path: { ref: g.id } }, body: { exempt } })),
    { onSuccess: () => setReason('') },
  );
  return (
    <Panel title="Exempt it">
      <Stack gap="3">
        <Text color="fg.muted" fontSize="sm">
          An exempt group never expires. Say why; your name is kept with it.
        </Text>
        {g.term.exempt ? (
          <Button
            alignSelf="start"
            size="sm"
            variant="outline"
            colorPalette="gray"
            loading={save.isPending}
            onClick={() => save.mutate('')}
          >
            Let it expire like others
          </Button>
        ) : (
          <HStack>
            <Input
              size="sm"
              aria-label="Why it never expires"
              placeholder="Why it never expires"
              value={reason}
              onChange={(e) => setReason(e.target.value)}
            />
            <Button
              size="sm"
              variant="outline"
              colorPalette="ivy"
              disabled={reason.trim() === ''}
              loading={save.isPending}
              onClick={() => save.mutate(reason)}
            >
              Exempt it
            </Button>
          </HStack>
        )}
        <Trouble error={save.error} />
      </Stack>
    </Panel>
  );
}
