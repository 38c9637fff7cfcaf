import type { Decided } from '../api/client';
import { toaster } from '../ui/toaster';

/** tellDecided says what became of requests or posts that were decided. */
export function tellDecided(done: Decided) {
  const refused = done.results.filter((r) => r.outcome === 'refused');
  toaster.create({
    type: refused.length ? 'warning' : 'success',
    title: done.says,
    description: refused.map((r) => r.says).join(' '),
  });
}
