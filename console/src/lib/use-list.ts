import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { useCallback, useEffect, useMemo, useState } from 'react';
import { useSearchParams } from 'react-router';
import type { Subject } from './use-change';
import { useSettled } from './use-settled';

type Page<T> = { items: T[]; next: string; total: number; hidden?: string; note?: string };

/**
 * useList is a list of the service: its filters stand in the address of the page, its pages are read as they are
 * wanted, and those of its rows that are picked are known.
 */
export function useList<T extends { id: string | number }>(list: {
  key: readonly [Subject, ...unknown[]];
  filters?: readonly string[]; // their names in the address; q is the search
  read: (query: { [filter: string]: string | string[] }, cursor: string) => Promise<Page<T>>;
}) {
  const { filters = [] } = list;
  const [params, setParams] = useSearchParams();
  const [q, setQ] = useState(params.get('q') ?? '');
  const settled = useSettled(q, 120);
  const [marked, setMarked] = useState<ReadonlySet<T['id']>>(new Set());
  const searches = filters.includes('q');
  const write = useCallback(
    (change: (p: URLSearchParams) => void) =>
      setParams(
        (p) => {
          const next = new URLSearchParams(p);
          change(next);
          return next;
        },
        { replace: true },
      ),
    [setParams],
  );
  useEffect(() => {
    if (!searches || (params.get('q') ?? '') === settled) return;
    write((p) => (settled ? p.set('q', settled) : p.delete('q')));
  }, [searches, settled, params, write]);

  const query: { [filter: string]: string | string[] } = {};
  for (const f of filters) {
    const values = f === 'q' ? [settled] : params.getAll(f);
    if (values[0]) query[f] = values.length > 1 ? values : values[0];
  }
  const pages = useInfiniteQuery({
    queryKey: [...list.key, query],
    placeholderData: keepPreviousData,
    initialPageParam: '',
    queryFn: ({ pageParam }) => list.read(query, pageParam),
    getNextPageParam: (last) => last.next || undefined,
  });
  const rows = useMemo(() => pages.data?.pages.flatMap((p) => p.items) ?? [], [pages.data]);
  const pick = useCallback((id: T['id'], on: boolean) => {
    setMarked((all) => {
      const next = new Set(all);
      if (on) next.add(id);
      else next.delete(id);
      return next;
    });
  }, []);
  // Rows that have gone are not picked any more.
  const picked: ReadonlySet<T['id']> = useMemo(
    () => new Set(rows.filter((r) => marked.has(r.id)).map((r) => r.id)),
    [rows, marked],
  );
  return {
    rows,
    total: pages.data?.pages[0]?.total ?? 0,
    hidden: pages.data?.pages[0]?.hidden,
    note: pages.data?.pages[0]?.note,
    loaded: pages.data !== undefined,
    error: pages.error,
    retry: () => void pages.refetch(),
    more: pages.hasNextPage && !pages.isFetchingNextPage,
    onMore: () => void pages.fetchNextPage(),
    q,
    setQ,
    query,
    filtered: Object.keys(query).length > 0,
    values: (filter: string) => params.getAll(filter),
    set: (filter: string, values: string | string[]) =>
      write((p) => {
        p.delete(filter);
        for (const v of [values].flat()) if (v) p.append(filter, v);
      }),
    setAll: (values: Record<string, string>) =>
      write((p) => {
        for (const [filter, value] of Object.entries(values)) {
          if (value) p.set(filter, value);
          else p.delete(filter);
        }
      }),
    clear: () => {
      setQ('');
      write((p) => filters.forEach((f) => p.delete(f)));
    },
    picked,
    pick,
    pickAll: (on: boolean) => setMarked(new Set(on ? rows.map((r) => r.id) : [])),
  };
}
