import { Button, HStack, Menu, Portal, Text } from '@chakra-ui/react';
import { lazy, Suspense, useState } from 'react';
import type { NewBulk } from '../api/client';
import { plural } from '../lib/dates';

const ChangeMany = lazy(() => import('./change-many'));

const kinds = {
  owners: 'Owners…',
  policy: 'Policy…',
  renew: 'Renew…',
  retire: 'Retire…',
} as const;
const more = {
  start: 'Begin again from a starting point…',
  traits: 'What they do…',
  aliases: 'Further addresses…',
  externals: 'External members…',
  language: 'Language of notices…',
  exempt: 'Exempt from the term rules…',
  hold: 'Put under hold, or release…',
  restore: 'Restore…',
} as const;
export type Kind = keyof typeof kinds | keyof typeof more;
type Whole = { total: number; list: { q: string; states: string[]; filter: string } };

/** BulkBar says how many groups are picked, and what can be done to all of them at once. */
export function BulkBar(props: {
  picked: string[];
  whole: Whole | undefined;
  total: number;
  onWhole: () => void;
  onNone: () => void;
}) {
  const [kind, setKind] = useState<Kind>();
  const n = props.whole?.total ?? props.picked.length;
  return (
    <HStack
      bg="ivy.subtle"
      borderWidth="1px"
      borderColor="ivy.border"
      borderRadius="lg"
      px="3"
      py="1.5"
      gap="2"
      wrap="wrap"
      role="region"
      aria-label="Groups that are picked"
    >
      <Text fontWeight="600" fontSize="sm" aria-live="polite">
        {props.whole ? `All ${plural(n, 'group')} that match` : `${plural(n, 'group')} picked`}
      </Text>
      {!props.whole && props.total > n && (
        <Button size="xs" variant="outline" colorPalette="ivy" onClick={props.onWhole}>
          Pick all {props.total.toLocaleString('en-GB')} that match
        </Button>
      )}
      <Button size="xs" variant="ghost" colorPalette="gray" onClick={props.onNone}>
        None
      </Button>
      <HStack ml="auto" gap="1">
        {(Object.keys(kinds) as (keyof typeof kinds)[]).map((k) => (
          <Button key={k} size="xs" variant="outline" colorPalette="gray" bg="bg.panel" onClick={() => setKind(k)}>
            {kinds[k]}
          </Button>
        ))}
        <Menu.Root>
          <Menu.Trigger asChild>
            <Button size="xs" variant="outline" colorPalette="gray" bg="bg.panel">
              More…
            </Button>
          </Menu.Trigger>
          <Portal>
            <Menu.Positioner>
              <Menu.Content>
                {(Object.keys(more) as (keyof typeof more)[]).map((k) => (
                  <Menu.Item key={k} value={k} onSelect={() => setKind(k)}>
                    {more[k]}
                  </Menu.Item>
                ))}
              </Menu.Content>
            </Menu.Positioner>
          </Portal>
        </Menu.Root>
      </HStack>
      {kind && (
        <Suspense>
          <ChangeMany
            kind={kind}
            n={n}
            groups={
              props.whole
                ? { list: props.whole.list as NewBulk['list'] & object, expected: n }
                : { groups: props.picked }
            }
            onDone={() => setKind(undefined)}
          />
        </Suspense>
      )}
    </HStack>
  );
}
