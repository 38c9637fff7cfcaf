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

/** inWords writes a value of a change for people: a date, yes or no, a dash for nothing; anything else as it is. */
export const inWords = (value: string | undefined) =>
  !value ? '–' : isDay.test(value) ? date(value) : value === 'true' ? 'yes' : value === 'false' ? 'no' : value;

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
