import { Button, Heading, HStack, Stack, Text } from '@chakra-ui/react';
import type { OwnPart as Part } from '../api/client';
import { date } from '../lib/dates';
import { Trouble } from '../ui/parts';

const says = {
  each: 'Each message to it reaches you.',
  digest: 'Its messages of a day reach you together.',
  conversations: 'Messages of conversations that you take part in reach you.',
  none: 'You are in it, and get none of its mail.',
} as const;

/** What somebody decides about their own part in a group. */
export type Own = 'each' | 'digest' | 'none' | 'leave' | 'resume';

/** OwnPart says what somebody is in a group, and lets them choose delivery, or leave. */
export function OwnPart({
  part: p,
  change,
}: {
  part: Part;
  change: { isPending: boolean; error: Error | null; mutate: (what: Own) => void };
}) {
  return (
    <Stack gap="3">
      <Text color="fg.muted">{p.person.address} in</Text>
      <Heading as="h1" size="2xl">
        {p.group.name}
      </Heading>
      <Text color="fg.muted">{p.group.address}</Text>
      {p.description && <Text>{p.description}</Text>}
      {p.owners.length > 0 && <Text fontSize="sm">It is run by {p.owners.join(', ')}.</Text>}
      {p.state === 'ended' ? (
        <Text fontWeight="600">The group has ended: it takes no mail.</Text>
      ) : p.state === 'out' ? (
        <Text fontWeight="600" role="status">
          You are not in it any more. Its mail does not reach you.
        </Text>
      ) : (
        <>
          <Text fontWeight="600" role="status">
            {says[p.delivery]}
            {p.until && ` Your last day in it is ${date(p.until)}.`}
          </Text>
          {p.paused && (
            <Text>No mail of any group goes to {p.person.address} at the moment: messages to it came back.</Text>
          )}
          <Trouble error={change.error} />
          <HStack wrap="wrap">
            {p.paused && (
              <Button loading={change.isPending} onClick={() => change.mutate('resume')}>
                It works again: let mail go on
              </Button>
            )}
            <Button
              colorPalette="ivy"
              variant={p.delivery === 'none' ? 'solid' : 'outline'}
              loading={change.isPending}
              onClick={() => change.mutate(p.delivery === 'none' ? 'each' : 'none')}
            >
              {p.delivery === 'none' ? 'Send me each message' : 'Send me no mail for now'}
            </Button>
            {p.delivery !== 'none' && (
              <Button
                variant="outline"
                colorPalette="gray"
                loading={change.isPending}
                onClick={() => change.mutate(p.delivery === 'digest' ? 'each' : 'digest')}
              >
                {p.delivery === 'digest' ? 'Send me each message' : 'Send me one digest a day'}
              </Button>
            )}
            {p.leaving !== 'fixed' && (
              <Button
                variant="outline"
                colorPalette="red"
                loading={change.isPending}
                onClick={() => change.mutate('leave')}
              >
                {p.leaving === 'asking' ? `Ask to leave ${p.group.name}` : `Leave ${p.group.name}`}
              </Button>
            )}
          </HStack>
          {p.says && (
            <Text fontSize="sm" role="status">
              {p.says}
            </Text>
          )}
        </>
      )}
    </Stack>
  );
}
