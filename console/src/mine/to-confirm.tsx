import { Box, Button, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, ask } from '../api/client';
import { inDays, plural } from '../lib/dates';

/** ToConfirm says how many groups a round asks me to confirm, and by when. */
export function ToConfirm() {
  const asked = useQuery({
    queryKey: ['round', 'mine', 'first'],
    queryFn: () => ask(api.GET('/api/v1/round-questions', { params: { query: { limit: 1 } } })),
  });
  const first = asked.data?.items[0];
  if (!asked.data || !first) return null;
  return (
    <Box
      as="section"
      aria-label="To confirm"
      bg="brass.subtle"
      borderWidth="1px"
      borderRadius="lg"
      p="4"
      mb="6"
      display="flex"
      gap="3"
      alignItems="center"
      flexWrap="wrap"
    >
      <Text flex="1" minW="14rem">
        <b>{plural(asked.data.total, 'group')} to confirm</b>
        {first.days_left >= 0 && ` ${inDays(first.due_on, first.days_left)}`}: {first.round}.
      </Text>
      <Button asChild size="sm" colorPalette="ivy">
        <Link to="/confirm">Look at {asked.data.total === 1 ? 'it' : 'them'}</Link>
      </Button>
    </Box>
  );
}
