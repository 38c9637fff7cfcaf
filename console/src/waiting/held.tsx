import { Badge, Box, Button, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask, Refusal } from '../api/client';
import { useChange } from '../lib/use-change';
import { Loading, Trouble } from '../ui/parts';

const size = (n: number) =>
  n < 1024 ? `${n} bytes` : n < 1 << 20 ? `${Math.round(n / 1024)} kB` : `${(n / (1 << 20)).toFixed(1)} MB`;

/** Why asks an administrator whom nobody else gave a part in a group why they read its mail. */
function Why(props: { says: string; error: unknown; busy: boolean; onWhy: (reason: string) => void }) {
  const [reason, setReason] = useState('');
  return (
    <Stack
      as="form"
      gap="2"
      borderWidth="1px"
      borderRadius="md"
      p="3"
      mt="1"
      fontSize="sm"
      onSubmit={(e) => {
        e.preventDefault();
        props.onWhy(reason);
      }}
    >
      <Text>{props.says}</Text>
      <HStack wrap="wrap">
        <Input
          size="sm"
          flex="1 1 14rem"
          maxLength={300}
          aria-label="Why you read it"
          placeholder="Such as: a complaint of its author"
          value={reason}
          onChange={(e) => setReason(e.target.value)}
        />
        <Button
          size="sm"
          type="submit"
          variant="outline"
          colorPalette="gray"
          disabled={!reason.trim()}
          loading={props.busy}
        >
          Read it, and say so
        </Button>
      </HStack>
      <Trouble error={props.error} />
    </Stack>
  );
}

/** Held is a message that waits for approval: its text and the names of its files, so that nothing in it acts or loads. */
export function Held(props: { id: string; busy: boolean; onAuthor: (author: 'trust' | 'bar') => void }) {
  const post = useQuery({
    queryKey: ['post', 'held', props.id],
    queryFn: () => ask(api.GET('/api/v1/waiting/{id}/message', { params: { path: { id: props.id } } })),
  });
  const because = useChange(['history'], (reason: string) =>
    ask(api.POST('/api/v1/waiting/{id}/message', { params: { path: { id: props.id } }, body: { reason } })),
  );
  const p = because.data ?? post.data;
  if (!p && post.error instanceof Refusal && post.error.status === 403) {
    return <Why says={post.error.message} error={because.error} busy={because.isPending} onWhy={because.mutate} />;
  }
  if (!p) return post.error ? <Trouble error={post.error} /> : <Loading what="the message" />;
  return (
    <Stack gap="2" borderWidth="1px" borderRadius="md" p="3" mt="1" fontSize="sm">
      <Box color="fg.muted" overflowWrap="anywhere">
        <Text>
          From {p.from || p.author}{' '}
          {p.proven ? (
            <Badge colorPalette="ivy">proven</Badge>
          ) : (
            <Badge colorPalette="brass">nothing proves who wrote it</Badge>
          )}
        </Text>
        <Text>To {p.to || p.group.address}</Text>
        {p.date && <Text>{p.date}</Text>}
      </Box>
      <Box
        maxH="22rem"
        overflow="auto"
        tabIndex={0}
        role="region"
        aria-label={`Text of ${p.subject || 'the message'}`}
        whiteSpace="pre-wrap"
        overflowWrap="anywhere"
      >
        {p.text || <Text color="fg.muted">There is no text in it.</Text>}
      </Box>
      {(p.markup || p.cut || p.unreadable) && (
        <Text color="fg.muted">
          {[
            p.markup && 'It was written as HTML; this is its text.',
            p.cut && 'There is more than is shown.',
            p.unreadable,
          ]
            .filter(Boolean)
            .join(' ')}
        </Text>
      )}
      {p.files.length > 0 && (
        <Text overflowWrap="anywhere">
          With it: {p.files.map((f) => `${f.name || 'a file without a name'} (${f.type}, ${size(f.size)})`).join(', ')}
          {p.more_files ? `, and ${p.more_files} more` : ''}
        </Text>
      )}
      <Box color="fg.muted">
        {p.reasons.map((r, i) => (
          <Text key={i}>{r.says}</Text>
        ))}
      </Box>
      <HStack wrap="wrap">
        <Button
          size="xs"
          variant="outline"
          colorPalette="ivy"
          disabled={props.busy}
          onClick={() => props.onAuthor('trust')}
        >
          Approve, and trust {p.author}
        </Button>
        <Button
          size="xs"
          variant="outline"
          colorPalette="red"
          disabled={props.busy}
          onClick={() => props.onAuthor('bar')}
        >
          Decline, and bar {p.author}
        </Button>
      </HStack>
    </Stack>
  );
}
