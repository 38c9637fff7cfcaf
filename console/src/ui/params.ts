import { useEffect, useState } from 'react';
import { useSearchParams } from 'react-router';
import { useSettled } from './settled';

/** useFilters keeps the filters of a list in its address, and the search once it is not being typed any more. */
export function useFilters() {
  const [params, setParams] = useSearchParams();
  const [q, setQ] = useState(params.get('q') ?? '');
  const settled = useSettled(q, 120);
  const set = (change: (p: URLSearchParams) => void) =>
    setParams(
      (p) => {
        const next = new URLSearchParams(p);
        change(next);
        return next;
      },
      { replace: true },
    );
  useEffect(() => {
    if ((params.get('q') ?? '') === settled) return;
    const next = new URLSearchParams(params);
    if (settled) next.set('q', settled);
    else next.delete('q');
    setParams(next, { replace: true });
  }, [settled, params, setParams]);
  return { params, set, q, setQ, settled };
}
