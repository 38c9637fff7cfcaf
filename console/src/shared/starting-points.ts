import { useQuery } from '@tanstack/react-query';
import { api, ask } from '../api/client';

/** useStartingPoints returns what a new group can begin from. */
export const useStartingPoints = () =>
  useQuery({
    queryKey: ['naming', 'starting-points'],
    queryFn: () => ask(api.GET('/api/v1/starting-points')),
  });
