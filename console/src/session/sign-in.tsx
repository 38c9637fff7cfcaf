import { Box, Button, Center, Field, Heading, Image, Input, Stack, Text } from '@chakra-ui/react';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask } from '../api/client';
import { Trouble } from '../ui/parts';

export default function SignIn() {
  const [address, setAddress] = useState('');
  const [password, setPassword] = useState('');
  const signIn = useMutation({ mutationFn: () => ask(api.POST('/api/v1/session', { body: { address, password } })) });
  return (
    <Center minH="100vh" p="4">
      <Box as="main" w="full" maxW="24rem" bg="bg.panel" borderWidth="1px" borderRadius="xl" p="8">
        <Stack
          as="form"
          gap="4"
          onSubmit={(e) => {
            e.preventDefault();
            signIn.mutate();
          }}
        >
          <Image src="/leaf.svg" alt="" w="12" />
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
        </Stack>
      </Box>
    </Center>
  );
}
