import { Button, HStack, Text } from '@chakra-ui/react';
import { api, ask } from '../api/client';
import { date } from '../lib/dates';
import { subjects, useChange } from '../lib/use-change';
import { useMe } from '../session/me';
import { Trouble } from '../ui/parts';

/** DemoClock shows the day of the demo, which an administrator can move. */
export function DemoClock() {
  const me = useMe();
  const move = useChange(subjects, (days: number) => ask(api.POST('/api/v1/demo/clock', { body: { days } })));
  const ahead = me.days_ahead;
  return (
    <HStack
      as="aside"
      aria-label="The day of the demo"
      className="no-print"
      bg="brass.subtle"
      color="brass.fg"
      borderBottomWidth="1px"
      px={{ base: 3, md: 5 }}
      py="1"
      fontSize="sm"
      gap="3"
      wrap="wrap"
    >
      <Text>
        Sample workspace Merrow Line. Its day is {date(me.now)}
        {ahead > 0 && `, ${ahead} days ahead`}.
      </Text>
      {me.workspace_role === 'administrator' && (
        <HStack gap="1">
          {[1, 15, 30].map((days) => (
            <Button
              key={days}
              size="2xs"
              variant="outline"
              colorPalette="brass"
              loading={move.isPending}
              onClick={() => move.mutate(days)}
            >
              {days === 1 ? 'a day on' : `${days} days on`}
            </Button>
          ))}
          {ahead > 0 && (
            <Button size="2xs" variant="ghost" colorPalette="brass" onClick={() => move.mutate(0)}>
              back to today
            </Button>
          )}
        </HStack>
      )}
      <Trouble error={move.error} />
    </HStack>
  );
}
