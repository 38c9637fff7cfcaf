const day = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', year: 'numeric', timeZone: 'UTC' });
const minute = new Intl.DateTimeFormat('en-GB', {
  day: 'numeric',
  month: 'short',
  year: 'numeric',
  hour: '2-digit',
  minute: '2-digit',
  timeZone: 'UTC',
});

/**
 * date writes a date, or the day of a moment. The service gives moments with the offset of the workspace's zone, so
 * that their first ten characters are the day that the workspace counts.
 */
export const date = (iso: string) => day.format(new Date(iso.slice(0, 10)));

/** moment writes a moment by the clocks of the workspace. */
export const moment = (iso: string) => minute.format(new Date(`${iso.slice(0, 19)}Z`));

const isDay = /^\d{4}-\d\d-\d\d$/;

/** dayOr writes a date for people, and anything else as it is; a dash for nothing. */
export const dayOr = (text: string | undefined) => (!text ? '–' : isDay.test(text) ? date(text) : text);

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
export const people = (n: number) => plural(n, 'person', 'people');
