import { type QueryClient, useMutation } from '@tanstack/react-query';

/** The first parts of the keys under which what was read is kept. */
export const subjects = [
  'group',
  'member',
  'joining',
  'rule',
  'person',
  'naming',
  'life',
  'review',
  'round',
  'post',
  'history',
  'me',
  'view',
  'bulk',
] as const;
export type Subject = (typeof subjects)[number];

declare module '@tanstack/react-query' {
  interface Register {
    mutationMeta: { touches: readonly Subject[] };
  }
}

/** touch has what was read of some subjects read again. Every change stands in the history. */
export function touch(queries: QueryClient, touched: readonly Subject[]) {
  for (const s of new Set<Subject>([...touched, 'history'])) void queries.invalidateQueries({ queryKey: [s] });
}

/** useChange makes a change, and says which subjects it touches. */
export function useChange<V = void, R = unknown>(
  touches: readonly Subject[],
  change: (values: V) => Promise<R>,
  more: { onSuccess?: (answer: R, values: V) => void; onError?: (error: Error) => void } = {},
) {
  return useMutation<R, Error, V>({ mutationFn: change, meta: { touches }, ...more });
}
