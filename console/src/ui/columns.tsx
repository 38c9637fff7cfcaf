import { Box, HStack, Text } from '@chakra-ui/react';
import { Link } from 'react-router';

export type Column = {
  key: string;
  label: string; // under it, where it is said
  says: string; // the whole of it in words
  value: number;
  was?: number; // before the change that is shown
  to?: string; // a list of what it counts
};

/** Columns is a chart of numbers in their order. Each column says its number to whoever points at it, or reads it. */
export function Columns(props: { label: string; columns: Column[]; height?: string }) {
  const { columns, height = '9rem' } = props;
  const most = Math.max(1, ...columns.flatMap((c) => [c.value, c.was ?? 0]));
  const part = (n: number) => `${(100 * n) / most}%`;
  return (
    <Box as="figure" aria-label={props.label} m="0" overflowX="auto">
      <HStack as="ul" align="stretch" gap="2px" listStyleType="none" minW="fit-content">
        {columns.map((c) => {
          const bar = (
            <Box position="relative" h={height} w="full" minW="9px">
              {c.was !== undefined && (
                <Box
                  position="absolute"
                  bottom="0"
                  insetX="0"
                  h={part(c.was)}
                  borderWidth={c.was > 0 ? '1px' : '0'}
                  borderStyle="dashed"
                  borderColor="fg.muted"
                />
              )}
              <Box
                position="absolute"
                bottom="0"
                insetX={c.was === undefined ? '0' : '2px'}
                h={part(c.value)}
                minH={c.value > 0 ? '2px' : '0'}
                bg="ivy.solid"
                borderTopRadius="2px"
              />
            </Box>
          );
          return (
            <Box as="li" key={c.key} flex="1" minW="9px" title={c.says}>
              {c.to && c.value > 0 ? (
                <Link to={c.to} aria-label={c.says} style={{ display: 'block' }}>
                  {bar}
                </Link>
              ) : (
                <Box role="img" aria-label={c.says}>
                  {bar}
                </Box>
              )}
              <Box borderTopWidth="1px" h="1.4rem" position="relative">
                {c.label && (
                  <Text position="absolute" left="0" top="1px" fontSize="2xs" color="fg.muted" whiteSpace="nowrap">
                    {c.label}
                  </Text>
                )}
              </Box>
            </Box>
          );
        })}
      </HStack>
    </Box>
  );
}
