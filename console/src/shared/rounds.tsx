import type { RoundCounts } from '../api/client';
import type { Share } from '../ui/share';

/** sharesOf are the states of the groups of a round. */
export const sharesOf = (c: RoundCounts): Share[] => [
  { key: 'kept', label: 'confirmed', value: c.kept, look: 'full' },
  { key: 'retired', label: 'retired', value: c.retired, look: 'brass' },
  { key: 'silent', label: 'without an answer', value: c.silent, look: 'striped' },
  { key: 'gone', label: 'gone otherwise', value: c.gone, look: 'faint' },
  { key: 'waiting', label: 'waiting', value: c.waiting, look: 'empty' },
];

export const questions = [
  ['needed', 'Is it still needed?'],
  ['people', 'Are the right people in it?'],
  ['policy', 'Is its reach right?'],
  ['owner', 'Are its owners the right ones?'],
] as const;

export const silences = [
  ['nothing', 'it stays as it is, and is listed'],
  ['caretaker', 'its caretaker is told'],
  ['retire', 'the group is retired: it can be restored'],
] as const;

export const roundStates = { open: 'open', over: 'over', stopped: 'ended before its day' } as const;
