import { Box, Button, Heading, HStack, NativeSelect, Spinner, Stack, Text } from '@chakra-ui/react';
import type { ReactNode } from 'react';
import { Refusal } from '../api/client';

/** Panel is a titled part of a page. */
export function Panel(props: { title?: string; side?: ReactNode; children: ReactNode }) {
  return (
    <Box as="section" bg="bg.panel" borderWidth="1px" borderRadius="lg" p={{ base: 4, md: 5 }}>
      {props.title && (
        <HStack justify="space-between" mb="3">
          <Heading as="h2" size="md">
            {props.title}
          </Heading>
          {props.side}
        </HStack>
      )}
      {props.children}
    </Box>
  );
}

/** Trouble says what went wrong, in the words of the service. */
export function Trouble({ error, retry }: { error: unknown; retry?: () => void }) {
  if (!error) return null;
  const text = error instanceof Error ? error.message : String(error);
  const rest = error instanceof Refusal ? error.problems.filter((p) => !text.includes(p.says)) : [];
  return (
    <Box
      role="alert"
      borderWidth="1px"
      borderColor="red.500"
      borderLeftWidth="4px"
      borderRadius="md"
      p="3"
      bg="bg.panel"
    >
      <Text>{text}</Text>
      {rest.map((p) => (
        <Text key={p.field} fontSize="sm">
          {p.says}
        </Text>
      ))}
      {retry && (
        <Button size="sm" mt="2" variant="outline" colorPalette="gray" onClick={retry}>
          Try again
        </Button>
      )}
    </Box>
  );
}

/** Nothing stands where a list is empty and says what to do. */
export function Nothing({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <Stack align="center" textAlign="center" py="12" px="4" gap="1" color="fg.muted">
      <Text fontFamily="heading" fontSize="lg" color="fg">
        {title}
      </Text>
      {children}
    </Stack>
  );
}

export function Loading({ what }: { what: string }) {
  return (
    <HStack py="10" justify="center" color="fg.muted" role="status">
      <Spinner size="sm" /> <Text>Loading {what}…</Text>
    </HStack>
  );
}

/** Choice is a labelled list of choices. */
export function Choice(props: {
  label: string;
  value: string;
  choices: readonly (readonly [string, string])[];
  onChange: (value: string) => void;
  disabled?: boolean;
  was?: string | undefined; // what it was before the draft
}) {
  return (
    <Box as="label" display="block" fontSize="sm">
      <Text fontWeight="600" mb="1">
        {props.label}
        {props.was && (
          <Text as="span" color="brass.fg" fontWeight="400">
            {' '}
            · was: {props.was}
          </Text>
        )}
      </Text>
      <NativeSelect.Root size="sm" {...(props.disabled ? { disabled: true } : {})}>
        <NativeSelect.Field value={props.value} onChange={(e) => props.onChange(e.target.value)}>
          {props.choices.map(([value, says]) => (
            <option key={value} value={value}>
              {says}
            </option>
          ))}
        </NativeSelect.Field>
        <NativeSelect.Indicator />
      </NativeSelect.Root>
    </Box>
  );
}

/** Moved says that what a draft began from has changed meanwhile. */
export function Moved(props: { draft: { moved: boolean; keepMine: () => void; drop: () => void } }) {
  if (!props.draft.moved) return null;
  return (
    <Box role="status" borderLeftWidth="4px" borderColor="brass.solid" pl="3" fontSize="sm">
      <Text>
        <span className="warn">Somebody changed this meanwhile.</span> What you did not touch shows the new values; what
        you typed is still here, not saved.
      </Text>
      <HStack mt="1">
        <Button size="2xs" variant="outline" colorPalette="brass" onClick={props.draft.keepMine}>
          Go on with mine
        </Button>
        <Button size="2xs" variant="ghost" colorPalette="gray" onClick={props.draft.drop}>
          Take the new values
        </Button>
      </HStack>
    </Box>
  );
}

/** Saving saves a draft, or drops it. */
export function Saving(props: {
  draft: { dirty: boolean; saving: boolean; save: () => unknown; drop: () => void };
  label: string;
}) {
  const { draft } = props;
  return (
    <HStack wrap="wrap">
      <Button
        size="sm"
        colorPalette="ivy"
        disabled={!draft.dirty}
        loading={draft.saving}
        onClick={() => void draft.save()}
      >
        {props.label}
      </Button>
      {draft.dirty && (
        <Button size="sm" variant="ghost" colorPalette="gray" onClick={draft.drop}>
          Drop the draft
        </Button>
      )}
    </HStack>
  );
}

/** More reads on in a list that is not scrolled. */
export function More(props: { list: { more: boolean; onMore: () => void }; words?: string }) {
  if (!props.list.more) return null;
  return (
    <Button mt="3" size="sm" variant="outline" colorPalette="gray" alignSelf="start" onClick={props.list.onMore}>
      {props.words ?? 'Show more'}
    </Button>
  );
}

/** Fact is a name and a value. */
export function Fact({ name, children }: { name: string; children: ReactNode }) {
  return (
    <HStack align="baseline" gap="3">
      <Text as="dt" w="8.5rem" flexShrink="0" color="fg.muted" fontSize="sm">
        {name}
      </Text>
      <Box as="dd" minW="0">
        {children}
      </Box>
    </HStack>
  );
}
