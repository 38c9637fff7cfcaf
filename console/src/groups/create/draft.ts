import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useWatch } from 'react-hook-form';
import { useNavigate } from 'react-router';
import { api, ask, type Group, type NewGroup, type PeopleList, type PolicyPatch } from '../../api/client';
import { useDraft } from '../../lib/use-draft';
import { useSettled } from '../../lib/use-settled';
import { useMe } from '../../session/me';
import { useStartingPoints } from '../../shared/starting-points';
import { toaster } from '../../ui/toaster';
import { useRuleMatch } from '../rule';

export type Who = { address: string; name: string; role: 'owner' | 'moderator' | 'member' };

/** Listed is a list of people that was looked at, with how many of it can be added. */
export type Listed = { list: PeopleList; words: string; ready: number };

/** Sheet is what is filled in about a new group. */
export type Sheet = {
  starting_point: string;
  name: string;
  local: string | null; // the address before the @, null while it follows the name
  domain: string;
  aliases: string[];
  description: string;
  who: Who[];
  lists: Listed[];
  policy: PolicyPatch;
  traits: Group['traits'];
  language: Group['language'];
  default_delivery: Group['default_delivery'];
  welcome: string;
  rule: string | null;
};

/** useNewGroup is a sheet for a new group that survives a closed tab, and what the service says about it. */
export function useNewGroup() {
  const me = useMe();
  const navigate = useNavigate();
  const [key] = useState(() => crypto.randomUUID());
  const home = me.domains[0] ?? '';
  const draft = useDraft<Sheet, Group>({
    keep: 'new-group',
    saved: {
      starting_point: '',
      name: '',
      local: null,
      domain: home,
      aliases: [],
      description: '',
      // Whoever makes a group for themselves owns it; administrators make them for others.
      who: me.workspace_role === 'administrator' ? [] : [{ address: me.address, name: me.name, role: 'owner' }],
      lists: [],
      policy: {},
      traits: [],
      language: 'en',
      default_delivery: 'each',
      welcome: '',
      rule: null,
    },
    fields: { address: 'local', owners: 'who' },
    touches: ['group', 'member', 'person', 'rule', 'life', 'naming', 'me'],
    save: (s) => {
      const body: NewGroup = {
        name: s.name,
        description: s.description,
        owners: s.who.filter((w) => w.role === 'owner').map((w) => w.address),
        people: s.who.filter((w) => w.role !== 'owner').map(({ address, role }) => ({ address, role })),
        lists: s.lists.map((l) => l.list),
        aliases: s.aliases,
        traits: s.traits,
        language: s.language,
        default_delivery: s.default_delivery,
        welcome: s.welcome,
        ...(s.rule?.trim() ? { rule: s.rule } : {}),
        ...s.policy,
      };
      if (s.local !== null || s.domain !== home)
        body.address = `${s.local ?? proposal.data?.address.split('@')[0] ?? ''}@${s.domain}`;
      return ask(api.POST('/api/v1/groups', { body, params: { header: { 'Idempotency-Key': key } } }));
    },
    onSaved: (g) => {
      toaster.create({
        type: 'success',
        title: `${g.name} is there`,
        description: `Mail to ${g.address} reaches its people from now on.`,
      });
      void navigate(`/groups/${g.address}`);
    },
  });
  const sheet = useWatch({ control: draft.form.control }) as Sheet;
  const set = (part: Partial<Sheet>) => {
    for (const [field, value] of Object.entries(part))
      draft.form.setValue(field as keyof Sheet, value as never, { shouldDirty: true });
  };

  const asked = useSettled(sheet, 150);
  const proposal = useQuery({
    queryKey: ['naming', 'proposal', asked.name, asked.local, asked.domain, asked.starting_point],
    enabled: asked.name.trim() !== '' || asked.local !== null,
    placeholderData: keepPreviousData,
    staleTime: 0,
    queryFn: () =>
      ask(
        api.GET('/api/v1/address-proposals', {
          params: {
            query: {
              name: asked.name,
              domain: asked.domain,
              starting_point: asked.starting_point,
              ...(asked.local === null ? {} : { address: `${asked.local}@${asked.domain}` }),
            },
          },
        }),
      ),
  });
  const summary = useQuery({
    queryKey: ['naming', 'policy-summary', sheet.policy],
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.POST('/api/v1/policy-summaries', { body: sheet.policy })),
  });
  const startingPoints = useStartingPoints();
  const match = useRuleMatch(sheet.rule ?? '');
  const names = asked.name.trim().length > 2;
  const alike = useQuery({
    queryKey: ['group', 'look-alikes', asked.name, proposal.data?.address, asked.who.map((w) => w.address)],
    enabled: names,
    placeholderData: keepPreviousData,
    queryFn: () =>
      ask(
        api.POST('/api/v1/look-alikes', {
          body: { name: asked.name, address: proposal.data?.address ?? '', people: asked.who.map((w) => w.address) },
        }),
      ),
  });

  const external = (address: string) => !me.domains.includes(address.split('@')[1]?.toLowerCase() ?? '');
  const outsiders = sheet.who.filter((w) => external(w.address)).length;
  const barred = summary.data?.externals === 'barred' ? outsiders : 0;
  const byRule = sheet.rule?.trim() ? match.data?.rule : undefined;
  const missing = [
    sheet.name.trim() === '' && 'a name',
    proposal.data && proposal.data.status !== 'free' && 'a free address',
    !sheet.who.some((w) => w.role === 'owner') && 'an owner',
    barred > 0 && 'leave for its external members',
    (summary.data?.contradictions.length ?? 0) > 0 && 'a policy without contradictions',
    byRule?.valid === false && 'a rule that can be read',
  ].filter((x) => typeof x === 'string');
  return {
    draft,
    sheet,
    set,
    proposal: proposal.data,
    summary: summary.data,
    summaryError: summary.error,
    startingPoints: startingPoints.data?.items ?? [],
    match: match.data,
    alike: names ? (alike.data?.items ?? []) : [],
    external,
    barred,
    missing,
    ruled: byRule?.match ?? 0,
    people: sheet.who.length + sheet.lists.reduce((n, l) => n + l.ready, 0) + (byRule?.match ?? 0),
    begin: (name: string) => {
      const s = startingPoints.data?.items.find((x) => x.name === name);
      if (!s) return;
      set({
        starting_point: name,
        policy: s.policy,
        traits: s.traits,
        default_delivery: s.default_delivery ?? 'each',
        welcome: s.welcome || sheet.welcome,
      });
    },
    add: (role: Who['role']) => (address: string, name: string) => {
      if (!sheet.who.some((w) => w.address === address)) set({ who: [...sheet.who, { address, name, role }] });
    },
  };
}

export type New = ReturnType<typeof useNewGroup>;
