import type { Group } from '../api/client';

/** The parts of a group's page: path, label, and what one has to be allowed for it. */
const parts: [path: string, label: string, may?: string][] = [
  ['', 'Overview'],
  ['people', 'People', 'see_people'],
  ['ways-in', 'Ways in', 'join_links'],
  ['nesting', 'Nesting', 'see_people'],
  ['reach', 'Reach'],
  ['mail', 'Mail'],
  ['term', 'Term'],
  ['history', 'History', 'history'],
];

/** partsOf returns the parts of a group's page that I may see, with their paths. */
export const partsOf = (g: Group) =>
  parts
    .filter(([, , may]) => !may || g.may?.includes(may))
    .map(([path, label]) => ({ path: `/groups/${g.address}${path && '/' + path}`, label }));
