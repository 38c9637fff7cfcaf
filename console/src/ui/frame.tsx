import { Box, Center, Image } from '@chakra-ui/react';
import type { ReactNode } from 'react';

/** Frame holds a page for somebody who need not be signed in. */
export function Frame({ width, children }: { width: string; children: ReactNode }) {
  return (
    <Center minH="100vh" p="4">
      <Box as="main" w="full" maxW={width} bg="bg.panel" borderWidth="1px" borderRadius="xl" p={{ base: 5, md: 8 }}>
        <Image src="/leaf.svg" alt="" w="12" mb="4" />
        {children}
      </Box>
    </Center>
  );
}
