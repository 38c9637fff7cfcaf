import { Box, Heading } from '@chakra-ui/react';
import { HistoryList } from '../shared/history';

export default function HistoryPage() {
  return (
    <Box p={{ base: 3, md: 5 }} maxW="70rem" mx="auto">
      <Heading as="h1" size="2xl" mb="4">
        History
      </Heading>
      <HistoryList />
    </Box>
  );
}
