import type { Rehearsal } from '../api/client';

/** actions are what can be done with a group, as it reads on from who does it. */
export const actions: [Rehearsal['action'], string][] = [
  ['post', 'write to it'],
  ['write_owners', 'write to its owners'],
  ['find', 'find it'],
  ['see_people', 'see who is in it'],
  ['read', 'read its archive'],
  ['join', 'come in'],
  ['leave', 'leave it'],
  ['add_people', 'add people to it'],
  ['invite', 'invite people'],
  ['nest', 'put a group into it'],
  ['speak_as', 'write as the group'],
  ['speak_for', 'write for the group, by name'],
];

/** outcomes are what a decision comes to. */
export const outcomes = {
  allow: { words: 'Yes', mail: 'It would arrive', colour: 'ivy.fg' },
  hold: { words: 'After approval', mail: 'It would wait for approval', colour: 'brass.fg' },
  refuse: { words: 'No', mail: 'It would be refused', colour: 'red.fg' },
} as const;
