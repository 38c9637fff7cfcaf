import type { Me } from '../api/client';

/** places are the main pages: who may see which, the service says. */
export const places: Record<Me['places'][number], [path: string, label: string]> = {
  mine: ['/mine', 'Mine'],
  groups: ['/groups', 'Groups'],
  people: ['/people', 'People'],
  waiting: ['/waiting', 'Waiting'],
  care: ['/care', 'Care'],
  rules: ['/rules', 'Rules'],
  history: ['/history', 'History'],
};
