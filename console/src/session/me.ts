import { queryOptions, useQuery, useQueryClient } from '@tanstack/react-query';
import { createContext, useContext } from 'react';
import { api, ask, type Me, Refusal } from '../api/client';

/** session is the question who is signed in, which is asked before anything is drawn. */
export const session = queryOptions({
  queryKey: ['me'],
  staleTime: 60_000,
  queryFn: async () => {
    try {
      return await ask(api.GET('/api/v1/me'));
    } catch (e) {
      if (e instanceof Refusal && e.status === 401) return null;
      throw e;
    }
  },
});

/** useSession returns who is signed in: undefined while that is not known, null for nobody. */
export function useSession() {
  const q = useQuery(session);
  return { me: q.data, error: q.error, retry: q.refetch };
}

export const MeContext = createContext<Me | null>(null);

/** useMe returns who is signed in, below the shell that saw to it. */
export function useMe(): Me {
  const me = useContext(MeContext);
  if (!me) throw new Error('nobody is signed in here');
  return me;
}

export function useSignOut() {
  const queries = useQueryClient();
  return async () => {
    await ask(api.DELETE('/api/v1/session'));
    queries.clear();
    window.location.assign('/');
  };
}
