import { Box, Button, Field, Heading, HStack, Image, Input, Stack, Table, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import { api, ask, type Token } from '../api/client';
import { date, moment, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useList } from '../lib/use-list';
import { MailPause } from '../shared/mail-pause';
import { Choice, Loading, More, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';
import { PasswordField } from './fields';
import { useMe } from './me';
import { ChangePassword } from './password';

const on = (f: () => void) => (e: FormEvent) => {
  e.preventDefault();
  f();
};

/** Account is how one signs in: password, second factor, tokens. Who lacks a second factor that is asked for sees nothing else. */
export default function Account() {
  const me = useMe();
  return (
    <Box p={{ base: 3, md: 5 }} maxW="44rem" mx="auto">
      <Heading as="h1" size="2xl" mb="4">
        Your account
      </Heading>
      <Stack gap="5">
        {me.lacks_factor && (
          <Box role="alert" borderLeftWidth="4px" borderColor="brass.solid" bg="bg.panel" p="3">
            <Text fontWeight="600">The workspace asks you to have a second factor.</Text>
            <Text fontSize="sm">Set one up below. Until then there is nothing else that you can do here.</Text>
          </Box>
        )}
        {!me.lacks_factor && <MyMail id={me.id} />}
        <SecondFactor />
        <ChangePassword />
        {!me.lacks_factor && <Tokens />}
        {me.left && (
          <Text fontSize="sm" color="fg.muted">
            Today you can still make {plural(me.left.groups ?? 0, 'group')}, bring in{' '}
            {plural(me.left.outsiders ?? 0, 'outsider')} and cause {plural(me.left.letters ?? 0, 'letter')}.
          </Text>
        )}
      </Stack>
    </Box>
  );
}

function MyMail({ id }: { id: string }) {
  const person = useQuery({
    queryKey: ['person', id],
    queryFn: () => ask(api.GET('/api/v1/people/{ref}', { params: { path: { ref: id } } })),
  });
  if (!person.data) return person.error ? <Trouble error={person.error} /> : <Loading what="your mail" />;
  return <MailPause person={person.data} self />;
}

function CodeField({ value, onValue, label }: { value: string; onValue: (v: string) => void; label: string }) {
  return (
    <Field.Root required>
      <Field.Label>{label}</Field.Label>
      <Input
        name="code"
        inputMode="numeric"
        autoComplete="one-time-code"
        maxW="14rem"
        value={value}
        onChange={(e) => onValue(e.target.value)}
      />
    </Field.Root>
  );
}

function SecondFactor() {
  const factor = useQuery({ queryKey: ['me', 'factor'], queryFn: () => ask(api.GET('/api/v1/me/second-factor')) });
  const [password, setPassword] = useState('');
  const [code, setCode] = useState('');
  const [open, setOpen] = useState(false);
  const clear = () => {
    setPassword('');
    setCode('');
  };
  const begin = useChange([], () => ask(api.POST('/api/v1/me/second-factor', { body: { password } })), {
    onSuccess: clear,
  });
  const confirm = useChange(['me'], () => ask(api.PUT('/api/v1/me/second-factor', { body: { code } })), {
    onSuccess: clear,
  });
  const end = useChange(['me'], () => ask(api.POST('/api/v1/me/second-factor/end', { body: { password, code } })), {
    onSuccess: () => {
      clear();
      setOpen(false);
      toaster.create({ type: 'success', title: 'Your second factor is off' });
    },
  });
  const f = factor.data;
  if (!f) return factor.error ? <Trouble error={factor.error} /> : <Loading what="your second factor" />;
  return (
    <Panel title="Second factor">
      {confirm.data ? (
        <Stack gap="3" aria-live="polite">
          <Text>
            Your second factor is on. Keep these recovery codes where your phone is not: each is good for one sign-in
            without it, and they are shown only now.
          </Text>
          <Box as="ul" fontFamily="mono" columns={{ base: 1, md: 2 }} listStyleType="none" data-codes>
            {confirm.data.codes.map((c) => (
              <li key={c}>{c}</li>
            ))}
          </Box>
          <Button
            alignSelf="start"
            size="sm"
            variant="outline"
            colorPalette="gray"
            onClick={() => {
              confirm.reset();
              begin.reset();
            }}
          >
            I have kept them
          </Button>
        </Stack>
      ) : f.on ? (
        <Stack gap="3">
          <Text>
            On since {f.since ? date(f.since) : ''}. {f.recovery_codes} of 10 recovery codes are left.
          </Text>
          {f.demanded ? (
            <Text fontSize="sm" color="fg.muted">
              The workspace asks for it. If you lose your phone, an administrator can take it away, so that you set up
              another.
            </Text>
          ) : open ? (
            <Stack as="form" gap="3" onSubmit={on(() => end.mutate())}>
              <PasswordField label="Your password" value={password} onValue={setPassword} />
              <CodeField label="A code, or a recovery code" value={code} onValue={setCode} />
              <Trouble error={end.error} />
              <HStack>
                <Button type="submit" size="sm" variant="outline" colorPalette="red" loading={end.isPending}>
                  Turn it off
                </Button>
                <Button size="sm" variant="ghost" colorPalette="gray" onClick={() => setOpen(false)}>
                  Keep it
                </Button>
              </HStack>
            </Stack>
          ) : (
            <Button alignSelf="start" size="sm" variant="outline" colorPalette="gray" onClick={() => setOpen(true)}>
              Turn it off…
            </Button>
          )}
        </Stack>
      ) : begin.data ? (
        <Stack as="form" gap="3" onSubmit={on(() => confirm.mutate())}>
          <Text>Point the program that shows codes, on your phone, at this picture, or type the secret in.</Text>
          <HStack align="start" gap="5" wrap="wrap">
            <Image
              src={begin.data.picture}
              alt="The secret as a picture for a camera"
              w="11rem"
              borderRadius="md"
              bg="white"
              p="1"
            />
            <Stack gap="3" maxW="18rem">
              <Text fontFamily="mono" fontSize="sm" overflowWrap="anywhere" data-secret>
                {begin.data.secret}
              </Text>
              <CodeField label="The code that it shows now" value={code} onValue={setCode} />
            </Stack>
          </HStack>
          <Trouble error={confirm.error} />
          <Button type="submit" alignSelf="start" colorPalette="ivy" loading={confirm.isPending}>
            Turn it on
          </Button>
        </Stack>
      ) : (
        <Stack as="form" gap="3" onSubmit={on(() => begin.mutate())}>
          <Text color="fg.muted">
            A code from your phone, beside the password, keeps out whoever has learnt your password. Mail programs then
            need passwords of their own.
          </Text>
          <PasswordField label="Your password" value={password} onValue={setPassword} />
          <Trouble error={begin.error} />
          <Button type="submit" alignSelf="start" colorPalette="ivy" loading={begin.isPending}>
            Set up a second factor
          </Button>
        </Stack>
      )}
    </Panel>
  );
}

const uses = [
  ['read', 'A script that reads'],
  ['people', 'A script that changes who is in groups and in the directory'],
  ['groups', 'A script that changes groups and decides about posts'],
  ['policy', 'A script that changes policies and rules'],
  ['everything', 'A script that may do all that you may'],
  ['send', 'A mail program'],
] as const;
type Use = (typeof uses)[number][0];
const inWords: Record<string, string> = Object.fromEntries(uses);

function Tokens() {
  const list = useList({
    key: ['me', 'tokens'],
    read: (_, cursor) => ask(api.GET('/api/v1/tokens', { params: { query: { cursor, limit: 50 } } })),
  });
  const [name, setName] = useState('');
  const [use, setUse] = useState<Use>('send');
  const make = useChange(
    ['me'],
    () => ask(api.POST('/api/v1/tokens', { body: { name, scopes: [use], days: use === 'send' ? 365 : 90 } })),
    { onSuccess: () => setName('') },
  );
  const end = useChange(['me'], (id: string) => ask(api.DELETE('/api/v1/tokens/{id}', { params: { path: { id } } })));
  return (
    <Panel title="Passwords for programs">
      <Stack gap="4">
        <Text color="fg.muted">
          A mail program or a script signs in with a password of its own, which you can end at any time.
        </Text>
        <Trouble error={list.error} retry={list.retry} />
        {list.rows.length > 0 && (
          <Table.ScrollArea>
            <Table.Root size="sm">
              <Table.Header>
                <Table.Row>
                  <Table.ColumnHeader>Name</Table.ColumnHeader>
                  <Table.ColumnHeader>For</Table.ColumnHeader>
                  <Table.ColumnHeader>Used</Table.ColumnHeader>
                  <Table.ColumnHeader>Ends</Table.ColumnHeader>
                  <Table.ColumnHeader>End it</Table.ColumnHeader>
                </Table.Row>
              </Table.Header>
              <Table.Body>
                {list.rows.map((t) => (
                  <One key={t.id} token={t} onEnd={() => end.mutate(t.id)} />
                ))}
              </Table.Body>
            </Table.Root>
          </Table.ScrollArea>
        )}
        <More list={list} />
        {make.data?.secret && (
          <Box borderLeftWidth="4px" borderColor="ivy.solid" pl="3" aria-live="polite">
            <Text>Copy it now; it is not shown again.</Text>
            <Text fontFamily="mono" overflowWrap="anywhere" data-token>
              {make.data.secret}
            </Text>
          </Box>
        )}
        <Stack as="form" gap="3" onSubmit={on(() => make.mutate())}>
          <HStack align="end" wrap="wrap">
            <Field.Root required maxW="16rem">
              <Field.Label>Its name</Field.Label>
              <Input
                size="sm"
                placeholder="mail on my laptop"
                value={name}
                onChange={(e) => setName(e.target.value)}
                maxLength={100}
              />
            </Field.Root>
            <Box minW="16rem">
              <Choice label="What it is for" value={use} choices={uses} onChange={(v) => setUse(v as Use)} />
            </Box>
            <Button type="submit" size="sm" colorPalette="ivy" loading={make.isPending}>
              Make a password
            </Button>
          </HStack>
          <Trouble error={make.error ?? end.error} />
        </Stack>
      </Stack>
    </Panel>
  );
}

function One({ token: t, onEnd }: { token: Token; onEnd: () => void }) {
  return (
    <Table.Row>
      <Table.Cell>{t.name}</Table.Cell>
      <Table.Cell>{t.scopes.map((s) => inWords[s] ?? s).join(', ')}</Table.Cell>
      <Table.Cell whiteSpace="nowrap">{t.last_used_at ? moment(t.last_used_at) : 'never'}</Table.Cell>
      <Table.Cell whiteSpace="nowrap">{date(t.expires_at)}</Table.Cell>
      <Table.Cell>
        <Button size="xs" variant="outline" colorPalette="red" aria-label={`End ${t.name}`} onClick={onEnd}>
          End
        </Button>
      </Table.Cell>
    </Table.Row>
  );
}
