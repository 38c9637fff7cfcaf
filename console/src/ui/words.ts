export const audiences = ['nobody', 'owners', 'moderators', 'members', 'workspace', 'anyone'] as const;

export const questions: Record<string, string> = {
  find: 'Find it in the directory',
  see_people: 'See who is in it',
  read: 'Read its archive',
  post: 'Write to it',
  write_owners: 'Write to its owners',
  add_people: 'Add people',
  speak_as: 'Write as the group',
  speak_for: 'Write for the group',
};

export const writes: Record<string, string> = {
  nobody: 'Nobody',
  owners: 'Owners',
  moderators: 'Owners, moderators',
  members: 'Members',
  workspace: 'Workspace',
  anyone: 'Anyone',
};

type Choices = readonly (readonly [value: string, says: string])[];

export const settings: Record<
  'join' | 'how' | 'leave' | 'externals' | 'hold' | 'suspicious',
  { label: string; choices: Choices }
> = {
  join: {
    label: 'Who may join',
    choices: [
      ['nobody', 'By invitation only'],
      ['workspace', 'Anyone in the workspace'],
      ['anyone', 'Anyone on the internet'],
    ],
  },
  how: {
    label: 'How they join',
    choices: [
      ['asking', 'They ask, an owner decides'],
      ['freely', 'By themselves'],
    ],
  },
  leave: {
    label: 'Leaving',
    choices: [
      ['free', 'Whenever they like'],
      ['asking', 'They ask first'],
      ['fixed', 'Not by themselves'],
    ],
  },
  externals: {
    label: 'External members',
    choices: [
      ['barred', 'Not allowed'],
      ['owners', 'Owners may add them'],
      ['adders', 'Whoever may add people'],
    ],
  },
  hold: {
    label: 'Waits for approval',
    choices: [
      ['nobody', 'No mail'],
      ['outsiders', 'Mail from outsiders who are not members'],
      ['non_members', 'Mail from everybody who is not a member'],
      ['newcomers', 'The same, and from new members'],
      ['everyone', 'All mail but that of owners and moderators'],
    ],
  },
  suspicious: {
    label: 'Mail whose author is not proven',
    choices: [
      ['hold', 'Waits for approval'],
      ['refuse', 'Is refused'],
      ['deliver', 'Is delivered'],
    ],
  },
};

export const privacies: Choices = [
  ['members', 'Members only'],
  ['workspace', 'Whole workspace'],
  ['anyone', 'Anyone on the internet'],
];

/** labels are the names of the settings by their fields in the interface. */
export const labels: Record<string, string> = {
  'join.audience': settings.join.label,
  'join.how': settings.how.label,
  leave: settings.leave.label,
  externals: settings.externals.label,
  hold: settings.hold.label,
  suspicious: settings.suspicious.label,
};
