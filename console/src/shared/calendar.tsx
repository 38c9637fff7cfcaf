import { Box, Button, Input, Stack, Text } from '@chakra-ui/react';
import { api, ask } from '../api/client';
import { useChange } from '../lib/use-change';
import { Trouble } from '../ui/parts';

/** Calendar gives out the address of a calendar, for a calendar program. */
export function Calendar() {
  const make = useChange(['me'], () => ask(api.POST('/api/v1/me/calendar')));
  return (
    <Stack gap="1" minW="12rem">
      <Button
        size="sm"
        variant="outline"
        colorPalette="gray"
        alignSelf="start"
        loading={make.isPending}
        onClick={() => make.mutate()}
      >
        When they expire, for my calendar program
      </Button>
      {make.data && (
        <Box fontSize="xs">
          <Input
            size="xs"
            readOnly
            aria-label="Address of the calendar"
            value={make.data.url}
            onFocus={(e) => e.target.select()}
          />
          <Text color="fg.muted" mt="1">
            Add this address to it. Whoever has it reads it; it is shown once, and one that you had before has ended.
          </Text>
        </Box>
      )}
      <Trouble error={make.error} />
    </Stack>
  );
}
