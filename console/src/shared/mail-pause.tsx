import { Button, Field, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { api, ask, type PersonDetails } from '../api/client';
import { date } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { Choice, Panel, Trouble } from '../ui/parts';

/** MailPause says whether the mail of groups reaches somebody, stops it for a while, and lets it go on. */
export function MailPause({ person: p, self }: { person: PersonDetails; self?: boolean }) {
  const [until, setUntil] = useState('');
  const path = { ref: p.id };
  const pause = useChange(
    ['person'],
    () => ask(api.PUT('/api/v1/people/{ref}/mail-pause', { params: { path }, body: { until } })),
    {
      onSuccess: () => setUntil(''),
    },
  );
  const resume = useChange(['person'], () => ask(api.DELETE('/api/v1/people/{ref}/mail-pause', { params: { path } })));
  const whose = self ? 'you' : p.name;
  return (
    <Panel title="Mail of groups">
      <Stack gap="3">
        <Text role="status">
          {!p.mail.paused
            ? `Mail of groups reaches ${whose}.`
            : p.mail.why === 'returned'
              ? `No mail of groups goes to ${whose}: messages to ${p.address} came back. Let it go on once the address works again.`
              : `No mail of groups reaches ${whose} up to and with ${date(p.mail.until ?? '')}.`}
        </Text>
        <Trouble error={pause.error ?? resume.error} />
        {p.mail.paused ? (
          <Button alignSelf="start" size="sm" loading={resume.isPending} onClick={() => resume.mutate(undefined)}>
            Let it go on
          </Button>
        ) : (
          <HStack
            as="form"
            align="end"
            wrap="wrap"
            onSubmit={(e) => {
              e.preventDefault();
              pause.mutate(undefined);
            }}
          >
            <Field.Root maxW="14rem" required>
              <Field.Label>{self ? 'You are away until' : 'Away until'}</Field.Label>
              <Input type="date" size="sm" value={until} onChange={(e) => setUntil(e.target.value)} />
            </Field.Root>
            <Button
              type="submit"
              size="sm"
              variant="outline"
              colorPalette="gray"
              disabled={!until}
              loading={pause.isPending}
            >
              Stop it until then
            </Button>
          </HStack>
        )}
        {p.mail.digest && <Digests person={p} self={self} />}
        <Text fontSize="sm" color="fg.muted">
          What comes meanwhile is not sent later. Letters about the groups that {self ? 'you run' : 'they run'} come all
          the same.
        </Text>
      </Stack>
    </Panel>
  );
}

/** Digests says when somebody's digests come, and lets them choose another hour. */
function Digests({ person: p, self }: { person: PersonDetails; self?: boolean }) {
  const [at, zone] = (p.mail.digest ?? '').split(' in ');
  const move = useChange(['person'], (hour: number) =>
    ask(
      api.PUT('/api/v1/people/{ref}/digest-time', {
        params: { path: { ref: p.id } },
        body: { hour, zone: zone ?? '' },
      }),
    ),
  );
  return (
    <Stack gap="2">
      <Trouble error={move.error} />
      <Choice
        label={`${self ? 'Your' : 'Their'} digests come at (${zone})`}
        value={at ?? ''}
        choices={Array.from({ length: 24 }, (_, h) => `${String(h).padStart(2, '0')}:00`).map((h) => [h, h])}
        onChange={(h) => move.mutate(Number(h.slice(0, 2)))}
      />
    </Stack>
  );
}
