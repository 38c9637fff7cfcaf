import { Box, Button, Heading, Stack, Text } from '@chakra-ui/react';
import { useMutation, useQuery } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import { Link, useParams } from 'react-router';
import { api, ask } from '../api/client';
import { date } from '../lib/dates';
import { Frame } from '../ui/frame';
import { Loading, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';
import { AddressField, PasswordField } from './fields';

const on = (f: () => void) => (e: FormEvent) => {
  e.preventDefault();
  f();
};

/** AskLink mails somebody a link by which they choose a password. */
export function AskLink() {
  const [address, setAddress] = useState('');
  const send = useMutation({ mutationFn: () => ask(api.POST('/api/v1/password-links', { body: { address } })) });
  return (
    <Frame width="26rem">
      <Stack as="form" gap="4" onSubmit={on(() => send.mutate())}>
        <Heading as="h1" size="xl">
          Choose a password
        </Heading>
        {send.isSuccess ? (
          <Text aria-live="polite">
            If somebody of the workspace has the address {address}, a letter with a link is on its way there. The link
            works once, for three days.
          </Text>
        ) : (
          <>
            <Text color="fg.muted">A link by which you choose one is mailed to you.</Text>
            <AddressField value={address} onValue={setAddress} />
            <Trouble error={send.error} />
            <Button type="submit" colorPalette="ivy" loading={send.isPending}>
              Mail me a link
            </Button>
          </>
        )}
        <Text fontSize="sm">
          <Link to="/">Back to signing in</Link>
        </Text>
      </Stack>
    </Frame>
  );
}

/** ChoosePassword is where such a link leads. It needs nobody to be signed in. */
export function ChoosePassword() {
  const { secret = '' } = useParams();
  const path = { secret };
  const [password, setPassword] = useState('');
  const link = useQuery({
    queryKey: ['me', 'password-link', secret],
    queryFn: () => ask(api.GET('/api/v1/password-links/{secret}', { params: { path } })),
    refetchOnWindowFocus: false,
  });
  const choose = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/password-links/{secret}', { params: { path }, body: { password } })),
  });
  const l = link.data;
  return (
    <Frame width="26rem">
      {choose.isSuccess ? (
        <Stack gap="4">
          <Heading as="h1" size="xl">
            Your password is set
          </Heading>
          <Text aria-live="polite">From now on {l?.address} signs in with it.</Text>
          <Text>
            <Link to="/">Sign in</Link>
          </Text>
        </Stack>
      ) : l ? (
        <Stack as="form" gap="4" onSubmit={on(() => choose.mutate())}>
          <Heading as="h1" size="xl">
            Choose a password, {l.name}
          </Heading>
          <Text color="fg.muted">
            {l.address} signs in with it. This link works once, until {date(l.expires_at)}.
          </Text>
          <input type="hidden" name="username" autoComplete="username" value={l.address} readOnly />
          <PasswordField
            fresh
            label="New password"
            value={password}
            onValue={setPassword}
            help={`${l.shortest} characters or more. A few words are good.`}
          />
          <Trouble error={choose.error} />
          <Button type="submit" colorPalette="ivy" loading={choose.isPending}>
            Set this password
          </Button>
        </Stack>
      ) : link.error ? (
        <Stack gap="4">
          <Trouble error={link.error} />
          <Text>
            <Link to="/password">Ask for a new link</Link>
          </Text>
        </Stack>
      ) : (
        <Loading what="the link" />
      )}
    </Frame>
  );
}

/** ChangePassword changes the password of whoever is signed in. */
export function ChangePassword() {
  const [current, setCurrent] = useState('');
  const [password, setPassword] = useState('');
  const [keep, setKeep] = useState(false);
  const change = useMutation({
    mutationFn: () => ask(api.PUT('/api/v1/me/password', { body: { current, password, keep_tokens: keep } })),
    onSuccess: () => {
      setCurrent('');
      setPassword('');
      toaster.create({ type: 'success', title: 'Your password is changed' });
    },
  });
  return (
    <Panel title="Password">
      <Stack as="form" gap="4" onSubmit={on(() => change.mutate())}>
        <PasswordField label="Present password" value={current} onValue={setCurrent} />
        <PasswordField fresh label="New password" value={password} onValue={setPassword} help="A few words are good." />
        <Box as="label" fontSize="sm">
          <input type="checkbox" checked={keep} onChange={(e) => setKeep(e.target.checked)} /> Keep the passwords of my
          programs
        </Box>
        <Trouble error={change.error} />
        <Button type="submit" alignSelf="start" colorPalette="ivy" loading={change.isPending}>
          Change it
        </Button>
        <Text fontSize="sm" color="fg.muted">
          Wherever else you are signed in, you will be asked for the new one.
        </Text>
      </Stack>
    </Panel>
  );
}
