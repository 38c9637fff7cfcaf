import { Box, Button, HStack, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { api, ask } from '../api/client';
import { plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { Trouble } from '../ui/parts';
import { Keeping } from './keeping';

/** Seal says how far the history is sealed, and goes along it to see whether it is as it was. */
export function Seal() {
  const seal = useQuery({
    queryKey: ['history', 'seal'],
    queryFn: () => ask(api.GET('/api/v1/history-seal')),
  });
  const verify = useChange([], () => ask(api.POST('/api/v1/history-verifications', { body: {} })));
  const found = verify.data;
  const last = found?.seal ?? seal.data;
  return (
    <Stack gap="2" fontSize="sm">
      <HStack wrap="wrap" gap="3">
        <Text color="fg.muted">
          {last && last.place > 0
            ? `${plural(last.place, 'entry', 'entries')} sealed, each after the one before it.`
            : 'Entries are sealed one after the other.'}
        </Text>
        <Button
          size="xs"
          variant="outline"
          colorPalette="gray"
          loading={verify.isPending}
          onClick={() => verify.mutate()}
        >
          Check that nothing was changed
        </Button>
        <Keeping />
      </HStack>
      <Trouble error={verify.error} />
      {found && (
        <Box
          role="status"
          borderWidth="1px"
          borderLeftWidth="4px"
          borderColor={found.total > 0 ? 'red.500' : 'ivy.solid'}
          borderRadius="md"
          bg="bg.panel"
          p="3"
        >
          <Text fontWeight="600">{found.says}</Text>
          {found.faults.slice(0, 10).map((f) => (
            <Text key={`${f.kind} ${f.place} ${f.entry}`}>
              <span className="warn">{f.kind}</span> {f.says}
            </Text>
          ))}
          {found.total > 10 && <Text>and {(found.total - 10).toLocaleString('en-GB')} more</Text>}
          {found.total === 0 && found.seal.seal !== '' && (
            <>
              <Text mt="1" color="fg.muted">
                Keep this seal outside of here, to prove it later even if somebody makes the whole end anew:
              </Text>
              <Text fontFamily="mono" fontSize="xs" wordBreak="break-all" userSelect="all">
                {found.seal.place} {found.seal.seal}
              </Text>
            </>
          )}
        </Box>
      )}
    </Stack>
  );
}
