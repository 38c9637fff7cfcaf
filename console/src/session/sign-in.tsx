import { Button, Field, Heading, Input, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, ask, Refusal } from '../api/client';
import { subjects, useChange } from '../lib/use-change';
import { Frame } from '../ui/frame';
import { Trouble } from '../ui/parts';
import { AddressField, PasswordField } from './fields';

export default function SignIn() {
  const [address, setAddress] = useState('');
  const [password, setPassword] = useState('');
  const [code, setCode] = useState('');
  const signIn = useChange(subjects, () =>
    ask(api.POST('/api/v1/session', { body: { address, password, ...(code ? { code } : {}) } })),
  );
  const asks = signIn.error instanceof Refusal && signIn.error.problems.some((p) => p.field === 'code');
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
        <AddressField value={address} onValue={setAddress} />
        <PasswordField label="Password" value={password} onValue={setPassword} />
        {(asks || code) && (
          <Field.Root required>
            <Field.Label>Code</Field.Label>
            <Input
              name="code"
              inputMode="numeric"
              autoComplete="one-time-code"
              value={code}
              onChange={(e) => setCode(e.target.value)}
              autoFocus
            />
            <Field.HelperText>That your program shows now, or a recovery code.</Field.HelperText>
          </Field.Root>
        )}
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
