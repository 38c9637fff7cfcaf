const day = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', year: 'numeric', timeZone: 'UTC' });
const minute = new Intl.DateTimeFormat('en-GB', {
  day: 'numeric',
  month: 'short',
  year: 'numeric',
  hour: '2-digit',
  minute: '2-digit',
});

export const date = (iso: string) => day.format(new Date(iso));
export const moment = (iso: string) => minute.format(new Date(iso));

/** inDays writes a date with its distance: in 12 days (5 Dec 2026). */
export function inDays(iso: string | null, days: number | null): string {
  if (!iso) return 'never';
  if (days === null) return date(iso);
  if (days === 0) return 'today';
  if (days === 1) return `tomorrow (${date(iso)})`;
  return `in ${days} days (${date(iso)})`;
}

export const plural = (n: number, one: string, many = one + 's') =>
  `${n.toLocaleString('en-GB')} ${n === 1 ? one : many}`;
