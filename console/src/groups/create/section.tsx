import { Box, Stack } from '@chakra-ui/react';
import type { ReactNode } from 'react';
import { Panel } from '../../ui/parts';

const sections = [
  ['start', 'Start'],
  ['name', 'Name'],
  ['owners', 'Owners'],
  ['people', 'People'],
  ['reach', 'Reach'],
  ['use', 'Use'],
] as const;

type Id = (typeof sections)[number][0];

/** Section is a part of the sheet that can be gone to. */
export function Section({ id, title, children }: { id: Id; title: string; children: ReactNode }) {
  return (
    <Box id={id} scrollMarginTop="4">
      <Panel title={title}>{children}</Panel>
    </Box>
  );
}

/** Steps leads to the parts of the sheet, and ticks those that are filled in. */
export function Steps({ done }: { done: Record<Id, boolean> }) {
  return (
    <Stack as="nav" aria-label="Parts of the sheet" position={{ lg: 'sticky' }} top="5" gap="1" hideBelow="lg">
      {sections.map(([id, label]) => (
        <a key={id} href={`#${id}`} style={{ padding: '0.35rem 0.6rem', borderRadius: 6 }}>
          <span aria-hidden="true">{done[id] ? '✓ ' : '· '}</span>
          {label}
        </a>
      ))}
    </Stack>
  );
}
