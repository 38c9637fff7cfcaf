import { Button, Field, Heading, Input, Stack, Text } from '@chakra-ui/react';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, ask } from '../api/client';
import { Frame } from '../ui/frame';
import { Trouble } from '../ui/parts';

export default function SignIn() {
  const [address, setAddress] = useState('');
  const [password, setPassword] = useState('');
  const signIn = useMutation({ mutationFn: () => ask(api.POST('/api/v1/session', { body: { address, password } })) });
  return (
    <Frame width="24rem">
      <Stack
        as="form"
        gap="4"
        onSubmit={(e) => {
          e.preventDefault();
          signIn.mutate();
        }}
      >
        <Heading as="h1" size="2xl">
          Ivy Table
        </Heading>
        <Text color="fg.muted">The mail groups of your organisation.</Text>
        <Field.Root required>
          <Field.Label>Your address</Field.Label>
          <Input
            name="address"
            type="email"
            autoComplete="username"
            value={address}
            onChange={(e) => setAddress(e.target.value)}
            autoFocus
          />
        </Field.Root>
        <Field.Root required>
          <Field.Label>Password</Field.Label>
          <Input
            name="password"
            type="password"
            autoComplete="current-password"
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </Field.Root>
        <Trouble error={signIn.error} />
        <Button type="submit" colorPalette="ivy" loading={signIn.isPending}>
          Sign in
        </Button>
        <Text fontSize="sm">
          <Link to="/password">No password yet, or forgotten?</Link>
        </Text>
      </Stack>
    </Frame>
  );
}
