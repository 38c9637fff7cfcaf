import { date, plural } from '../lib/dates';
import type { Column } from '../ui/columns';

const short = new Intl.DateTimeFormat('en-GB', { month: 'short', timeZone: 'UTC' });

/** month is the month of a day, in short. */
export const month = (day: string) => short.format(new Date(day));

/** monthLabels writes the month under the first column of each, but not where the next label would touch it. */
export function monthLabels(from: string[]): string[] {
  let last = '';
  let since = 99;
  return from.map((day) => {
    const m = day.slice(0, 7);
    since++;
    if (m === last || since < 4) {
      if (m !== last && since < 4) return '';
      last = m;
      return '';
    }
    last = m;
    since = 0;
    return month(day) + (m.endsWith('-01') ? ` ’${m.slice(2, 4)}` : '');
  });
}

/** spanOf names a week, or a month. */
export const spanOf = (p: { from: string; to: string }) => `${date(p.from)} to ${date(before(p.to))}`;

const before = (day: string) => new Date(new Date(day).getTime() - 86_400_000).toISOString().slice(0, 10);

/** columnsOf makes the columns of a chart of periods. */
export function columnsOf<P extends { from: string; to: string }>(
  periods: P[],
  value: (p: P) => number,
  more: (p: P) => Partial<Column> = () => ({}),
): Column[] {
  const labels = monthLabels(periods.map((p) => p.from));
  return periods.map((p, i) => ({
    key: p.from,
    label: labels[i] ?? '',
    says: `${spanOf(p)}: ${plural(value(p), 'group')}`,
    value: value(p),
    ...more(p),
  }));
}
