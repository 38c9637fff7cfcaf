import { Box, Button, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { Link } from 'react-router';
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
  const [reason, setReason] = useState('');
  const renew = useChange(
    ['group', 'life'],
    () => ask(api.POST('/api/v1/groups/{ref}/renewal', { params, body: reason ? { reason } : {} })),
    {
      onSuccess: (n) => {
        setReason('');
        toaster.create({
          type: 'success',
          title: `${n.name} is renewed`,
          description: `It expires ${inDays(n.term.expires_on, n.term.days_left)}.`,
        });
      },
    },
  );
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
              {t.hold
                ? ` It is under hold: it can be restored, with its ${all}, as long as that lasts.`
                : t.restorable_until && ` It can be restored, with its ${all}, until ${date(t.restorable_until)}.`}
            </Text>
          ) : t.exempt ? (
            <Text fontSize="lg">
              It is exempt: it never expires. {t.exempt.by} said so: “{t.exempt.reason}”.
              {t.exempt.until && ` That is to be looked at again on ${date(t.exempt.until)}.`}
            </Text>
          ) : t.expires_on ? (
            <Text fontSize="lg">
              It expires {inDays(t.expires_on, t.days_left)}
              {g.state === 'due' ? '. Renew it if it is still needed.' : '.'}
            </Text>
          ) : (
            <Text fontSize="lg">
              {t.rule ? `It never expires: the rule ${t.rule} says so.` : 'It never expires: no term rule is for it.'}
            </Text>
          )}
          {t.expires_on && (
            <Span from={t.renewed_at} to={t.expires_on} left={t.days_left ?? 0} due={g.state === 'due'} />
          )}
          <Stack as="dl" gap="1">
            {t.rule && !t.ended_at && <Fact name="Rule">{t.rule}</Fact>}
            <Fact name="Renewed">{date(t.renewed_at)}</Fact>
            <Fact name="Made">{date(g.created_at)}</Fact>
            {t.hold && (
              <Fact name="Under hold">
                {t.hold.reason} ({t.hold.by}, {date(t.hold.since)})
              </Fact>
            )}
          </Stack>
          <Trouble error={renew.error ?? retire.error ?? restore.error} />
          {!t.ended_at && may('renew') && t.expires_on && (
            <Input
              size="sm"
              maxLength={500}
              aria-label="Why it is still needed"
              placeholder="Why it is still needed, if you like: it is kept with the renewal"
              value={reason}
              onChange={(e) => setReason(e.target.value)}
            />
          )}
          <HStack wrap="wrap">
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
            {!t.ended_at && may('retire') && !t.hold && (
              <Button variant="outline" colorPalette="red" loading={retire.isPending} onClick={() => retire.mutate()}>
                Retire {g.name} (it can be restored)
              </Button>
            )}
            {!t.ended_at && may('change_people') && (
              <Link to={`/groups/${g.address}/people`}>
                <u>Hand it to somebody</u>
              </Link>
            )}
          </HStack>
          {t.hold && !t.ended_at && (
            <Text fontSize="sm" color="fg.muted">
              It can’t be retired as long as it is under hold.
            </Text>
          )}
        </Stack>
      </Panel>
      {may('term') && !t.ended_at && <Exempt group={g} />}
      {may('hold') && <Hold group={g} />}
    </Stack>
  );
}

/** Span draws the term as a line with today on it. */
function Span({ from, to, left, due }: { from: string; to: string; left: number; due: boolean }) {
  const whole = Math.max(1, Math.round((new Date(to).getTime() - new Date(from).getTime()) / 86_400_000));
  const gone = Math.min(100, Math.max(0, (100 * (whole - left)) / whole));
  return (
    <Box aria-label={`${whole - left} of ${whole} days have passed`} role="img">
      <Box h="3" bg="bg.muted" borderRadius="full" overflow="hidden" borderWidth="1px">
        <Box h="full" w={`${gone}%`} bg={due ? 'brass.solid' : 'ivy.solid'} />
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
  const [until, setUntil] = useState('');
  const save = useChange(
    ['group', 'life'],
    (body: { exempt: string; exempt_until?: string }) =>
      ask(api.PATCH('/api/v1/groups/{ref}', { params: { path: { ref: g.id } }, body })),
    {
      onSuccess: () => {
        setReason('');
        setUntil('');
      },
    },
  );
  return (
    <Panel title="Exempt it">
      <Stack gap="3">
        <Text color="fg.muted" fontSize="sm">
          No term rule is for an exempt group: it never expires. Say why, and when to look at that again; your name is
          kept with it.
        </Text>
        {g.term.exempt ? (
          <Button
            alignSelf="start"
            size="sm"
            variant="outline"
            colorPalette="gray"
            loading={save.isPending}
            onClick={() => save.mutate({ exempt: '' })}
          >
            Let it expire like others
          </Button>
        ) : (
          <HStack wrap="wrap">
            <Input
              size="sm"
              flex="1"
              minW="14rem"
              aria-label="Why it never expires"
              placeholder="Why it never expires"
              value={reason}
              onChange={(e) => setReason(e.target.value)}
            />
            <Input
              size="sm"
              w="10rem"
              type="date"
              aria-label="When to look at it again"
              value={until}
              onChange={(e) => setUntil(e.target.value)}
            />
            <Button
              size="sm"
              variant="outline"
              colorPalette="ivy"
              disabled={reason.trim() === ''}
              loading={save.isPending}
              onClick={() => save.mutate({ exempt: reason, ...(until ? { exempt_until: until } : {}) })}
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

function Hold({ group: g }: { group: Group }) {
  const [reason, setReason] = useState('');
  const params = { path: { ref: g.id } };
  const hold = useChange(['group', 'life'], () =>
    ask(api.PUT('/api/v1/groups/{ref}/hold', { params, body: { reason } })),
  );
  const release = useChange(['group', 'life'], () => ask(api.DELETE('/api/v1/groups/{ref}/hold', { params })));
  return (
    <Panel title="Under hold">
      <Stack gap="3">
        <Text color="fg.muted" fontSize="sm">
          A group under hold is neither retired nor deleted for good, whatever else happens: while an inquiry or a claim
          is open, say.
        </Text>
        {g.term.hold ? (
          <Button
            alignSelf="start"
            size="sm"
            variant="outline"
            colorPalette="gray"
            loading={release.isPending}
            onClick={() => release.mutate()}
          >
            Release it
          </Button>
        ) : (
          <HStack>
            <Input
              size="sm"
              aria-label="Why it is put under hold"
              placeholder="Why"
              value={reason}
              onChange={(e) => setReason(e.target.value)}
            />
            <Button
              size="sm"
              variant="outline"
              colorPalette="ivy"
              flexShrink="0"
              disabled={reason.trim() === ''}
              loading={hold.isPending}
              onClick={() => hold.mutate()}
            >
              Put it under hold
            </Button>
          </HStack>
        )}
        <Trouble error={hold.error ?? release.error} />
      </Stack>
    </Panel>
  );
}
