import { Box, Button, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { type ReactNode, useState } from 'react';

interface Group {
  id: string;
  name: string;
}

/** useChosen keeps which of some groups are left out; the others are chosen. */
export function useChosen<G extends Group>(groups: G[]) {
  const [without, setWithout] = useState<ReadonlySet<string>>(new Set());
  const choose = (id: string, chosen: boolean) =>
    setWithout((all) => {
      const next = new Set(all);
      if (chosen) next.delete(id);
      else next.add(id);
      return next;
    });
  return { chosen: groups.filter((g) => !without.has(g.id)), has: (id: string) => !without.has(id), choose };
}

/** GroupLine is one group of a letter, with what is said of it, and a box to choose it by where `choose` is given. */
export function GroupLine(props: {
  group: Group;
  chosen: boolean;
  choose?: (id: string, chosen: boolean) => void;
  children: ReactNode;
  below?: ReactNode;
}) {
  const { group, choose } = props;
  return (
    <Box as="li" borderWidth="1px" borderRadius="md" p="3">
      <HStack as="label" align="start" gap="3">
        {choose && (
          <input
            type="checkbox"
            style={{ marginTop: '0.35rem' }}
            checked={props.chosen}
            onChange={(e) => choose(group.id, e.target.checked)}
          />
        )}
        <Box minW="0">
          <Text fontWeight="600">{group.name}</Text>
          {props.children}
        </Box>
      </HStack>
      {props.below}
    </Box>
  );
}

/** WithWords is a button for what a letter asks, with a line that is kept with it. */
export function WithWords(props: {
  label: string;
  placeholder: string;
  disabled: boolean;
  pending: boolean;
  act: (words: string) => void;
  children: ReactNode;
}) {
  const [words, setWords] = useState('');
  return (
    <Stack gap="2">
      <Input
        size="sm"
        maxLength={500}
        aria-label={props.label}
        placeholder={props.placeholder}
        value={words}
        onChange={(e) => setWords(e.target.value)}
      />
      <Button
        colorPalette="ivy"
        size="lg"
        disabled={props.disabled}
        loading={props.pending}
        onClick={() => props.act(words.trim())}
      >
        {props.children}
      </Button>
    </Stack>
  );
}
