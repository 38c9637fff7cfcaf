import { Box, Button, Heading, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { api, ask, type Finding } from '../api/client';
import { plural } from '../lib/dates';
import { useList } from '../lib/use-list';
import { FindingList } from '../shared/findings';
import { More } from '../ui/parts';

/** ToMend is what the review found about my groups: first what I was asked to mend. */
export function ToMend() {
  const [open, setOpen] = useState(false);
  const list = useList<Finding>({
    key: ['review', 'mine'],
    read: (_, cursor) =>
      ask(api.GET('/api/v1/findings', { params: { query: { mine: true, state: 'open', cursor, limit: 50 } } })),
  });
  const asked = list.rows.filter((f) => f.assigned);
  const rest = list.rows.filter((f) => !f.assigned);
  if (list.rows.length === 0) return null;
  return (
    <Box as="section" bg="bg.panel" borderWidth="1px" borderRadius="lg" p="4" mb="6">
      <Heading as="h2" size="md" mb="2">
        To look at{' '}
        <Text as="span" color="fg.muted" fontWeight="400" fontSize="sm">
          {plural(list.total, 'finding')} about my groups
        </Text>
      </Heading>
      {asked.length > 0 && (
        <Text fontSize="sm" mb="2">
          {asked[0]?.assigned && `You were asked to mend ${asked.length === 1 ? 'this' : 'these'}:`}
        </Text>
      )}
      <FindingList named items={open ? [...asked, ...rest] : asked.length > 0 ? asked : rest.slice(0, 3)} />
      {(open ? list.more : list.rows.length > (asked.length || 3)) &&
        (open ? (
          <More list={list} />
        ) : (
          <Button mt="3" size="xs" variant="outline" colorPalette="gray" onClick={() => setOpen(true)}>
            Show all {list.total}
          </Button>
        ))}
    </Box>
  );
}
