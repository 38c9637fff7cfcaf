import { Button, Heading, Input, Stack, Text, Textarea } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { type ReactNode, useState } from 'react';
import { useParams } from 'react-router';
import { api, ask, type PublicGroup } from '../api/client';
import { plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { Frame } from '../ui/frame';
import { Loading, Trouble } from '../ui/parts';

/** PublicPage is a group as anyone on the internet sees it. */
export default function PublicPage() {
  const { ref = '' } = useParams();
  const group = useQuery({
    queryKey: ['joining', 'public', ref],
    queryFn: () => ask(api.GET('/api/v1/public/groups/{ref}', { params: { path: { ref } } })),
  });
  const g = group.data;
  return (
    <Frame width="40rem">
      <Trouble error={group.error} />
      {!g && !group.error && <Loading what="the group" />}
      {g && (
        <Stack gap="5">
          <Stack gap="1">
            <Text color="fg.muted">Mail group</Text>
            <Heading as="h1" size="2xl">
              {g.name}
            </Heading>
            {g.description && <Text>{g.description}</Text>}
          </Stack>
          <Part title="Writing">
            <Text>{g.writing}</Text>
            {g.notice && <Text fontWeight="600">{g.notice}</Text>}
            {g.may_write && (
              <Text>
                Write to{' '}
                <a href={`mailto:${g.address}`}>
                  <u>{g.address}</u>
                </a>
                .
              </Text>
            )}
            {g.owners && (
              <Text>
                Those who run it are reached at{' '}
                <a href={`mailto:${g.owners}`}>
                  <u>{g.owners}</u>
                </a>
                .
              </Text>
            )}
          </Part>
          <Part title="Being in it">
            <Text>{g.joins}</Text>
            {g.joining !== 'closed' && <Approach group={g} />}
          </Part>
          {g.people && g.people.length > 0 && (
            <Part title="Who is in it">
              <Text>
                {g.number ? `${plural(g.number, 'person')}: ` : ''}
                {g.people.join(', ')}
                {g.number && g.number > g.people.length ? ', and more' : ''}
              </Text>
            </Part>
          )}
        </Stack>
      )}
    </Frame>
  );
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <Stack as="section" gap="2" borderTopWidth="1px" pt="4">
      <Heading as="h2" size="md">
        {title}
      </Heading>
      {children}
    </Stack>
  );
}

/** Approach has a letter sent by which somebody proves their address. */
function Approach({ group: g }: { group: PublicGroup }) {
  const [address, setAddress] = useState('');
  const [name, setName] = useState('');
  const [note, setNote] = useState('');
  const path = { ref: g.address };
  const send = useChange([], () =>
    ask(api.POST('/api/v1/public/groups/{ref}/joining', { params: { path }, body: { address, name, note } })),
  );
  if (send.data) {
    return (
      <Text role="status" fontWeight="600">
        {send.data.says}
      </Text>
    );
  }
  return (
    <Stack
      as="form"
      gap="3"
      onSubmit={(e) => {
        e.preventDefault();
        send.mutate();
      }}
    >
      <label>
        <Text fontSize="sm" fontWeight="600" mb="1">
          Your address
        </Text>
        <Input
          name="address"
          type="email"
          required
          autoComplete="email"
          value={address}
          onChange={(e) => setAddress(e.target.value)}
        />
      </label>
      <label>
        <Text fontSize="sm" fontWeight="600" mb="1">
          Your name
        </Text>
        <Input value={name} maxLength={100} autoComplete="name" onChange={(e) => setName(e.target.value)} />
      </label>
      {g.joining === 'asking' && (
        <label>
          <Text fontSize="sm" fontWeight="600" mb="1">
            What those who decide should know
          </Text>
          <Textarea value={note} maxLength={500} rows={2} onChange={(e) => setNote(e.target.value)} />
        </label>
      )}
      <Trouble error={send.error} />
      <Text fontSize="sm" color="fg.muted">
        A letter goes to this address, so that nobody puts you in but you.
      </Text>
      <Button type="submit" alignSelf="start" colorPalette="ivy" loading={send.isPending}>
        {g.joining === 'freely' ? `Join ${g.name}` : `Ask to be in ${g.name}`}
      </Button>
    </Stack>
  );
}
