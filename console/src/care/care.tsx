import { Box, Heading } from '@chakra-ui/react';
import { Suspense } from 'react';
import { Outlet } from 'react-router';
import { Loading } from '../ui/parts';
import { Tabs } from '../ui/tabs';

const parts = [
  { path: '/care', label: 'Today' },
  { path: '/care/findings', label: 'Findings' },
  { path: '/care/rounds', label: 'Rounds' },
  { path: '/care/terms', label: 'Terms' },
  { path: '/care/forecast', label: 'Forecast' },
  { path: '/care/ended', label: 'Ended' },
  { path: '/care/report', label: 'Report' },
];

/** Care keeps the directory healthy: how long groups live, which end, which can be brought back. */
export default function Care() {
  return (
    <Box p={{ base: 3, md: 5 }} maxW="84rem" mx="auto">
      <Heading as="h1" size="2xl" mb="2">
        Care
      </Heading>
      <Tabs label="Parts of care" parts={parts} />
      <Suspense fallback={<Loading what="this part" />}>
        <Outlet />
      </Suspense>
    </Box>
  );
}
