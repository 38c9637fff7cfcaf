import { HStack, Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask } from '../api/client';
import type { components } from '../api/schema.gen';
import { useChange } from '../lib/use-change';
import { useSettled } from '../lib/use-settled';
import { useMe } from '../session/me';
import { Choice, Loading, Panel, Saving, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';

type Saved = components['schemas']['DepartureRules'];

const owned = [
  ['manager', 'their manager'],
  ['moderator', 'the moderator who has been one for longest'],
  ['caretaker', 'the caretaker of the group'],
] as const;
const vouched = [
  ['manager', 'their manager'],
  ['owner', 'an owner of the group'],
] as const;

/** Departures are who takes over what somebody leaves behind who leaves the organisation. */
export function Departures() {
  const rules = useQuery({
    queryKey: ['naming', 'departures'],
    queryFn: () => ask(api.GET('/api/v1/departure-rules')),
  });
  if (rules.error) return <Trouble error={rules.error} retry={() => void rules.refetch()} />;
  return rules.data ? (
    <Editor key={rules.data.version} saved={rules.data} />
  ) : (
    <Loading what="the rules for departures" />
  );
}

function Editor({ saved }: { saved: Saved }) {
  const may = useMe().may.includes('change_directory');
  const [draft, setDraft] = useState({ owned: saved.owned, vouched: saved.vouched });
  const body = JSON.stringify(draft);
  const dirty = body !== JSON.stringify({ owned: saved.owned, vouched: saved.vouched });
  const settled = useSettled(body, 150);
  const look = useQuery({
    queryKey: ['naming', 'departures', 'look', settled],
    enabled: dirty && may,
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.POST('/api/v1/departure-rules/preview', { body: JSON.parse(settled) as Saved })),
  });
  const save = useChange(
    ['naming'],
    () =>
      ask(
        api.PUT('/api/v1/departure-rules', {
          params: { header: { 'If-Match': `"${saved.version}"` } },
          body: draft as Saved,
        }),
      ),
    { onSuccess: () => toaster.create({ type: 'success', title: 'The rules for departures are in force' }) },
  );
  return (
    <Panel title="When people leave">
      <Stack gap="4" fontSize="sm">
        <Text color="fg.muted">
          What only they ran goes to the first of these whom there is, and comes back when they return and nobody
          decided otherwise. Without a rule it is left to nobody: caretakers are told, and the review finds it.
        </Text>
        <Order
          label="Groups that nobody else owns go to"
          known={owned}
          list={draft.owned ?? []}
          disabled={!may}
          onList={(list) => setDraft({ ...draft, owned: list as Saved['owned'] })}
        />
        <Order
          label="For external members for whom they vouched vouches"
          known={vouched}
          list={draft.vouched ?? []}
          disabled={!may}
          onList={(list) => setDraft({ ...draft, vouched: list as Saved['vouched'] })}
        />
        {dirty && look.data && (
          <Stack gap="0" aria-live="polite">
            <Text fontWeight="600">{look.data.says}</Text>
            {look.data.effects
              .filter((e) => e.says)
              .map((e) => (
                <Text key={e.field}>{e.says}</Text>
              ))}
          </Stack>
        )}
        <Trouble error={look.error ?? save.error} />
        {may && (
          <Saving
            label="Put in force"
            draft={{
              dirty,
              saving: save.isPending,
              save: () => save.mutate(),
              drop: () => setDraft({ owned: saved.owned, vouched: saved.vouched }),
            }}
          />
        )}
      </Stack>
    </Panel>
  );
}

/** Order picks some of several in an order: the first, and what comes when there is none. */
function Order(props: {
  label: string;
  known: readonly (readonly [string, string])[];
  list: string[];
  disabled: boolean;
  onList: (list: string[]) => void;
}) {
  const { list, known } = props;
  const places = Math.min(list.length + 1, known.length);
  return (
    <Stack gap="1">
      {Array.from({ length: places }, (_, i) => (
        <HStack key={i} align="end">
          <Choice
            label={i === 0 ? props.label : 'else'}
            value={list[i] ?? ''}
            disabled={props.disabled}
            choices={[['', 'nobody'], ...known.filter(([v]) => v === list[i] || !list.includes(v))]}
            onChange={(v) => props.onList([...list.slice(0, i), ...(v ? [v, ...list.slice(i + 1)] : [])])}
          />
        </HStack>
      ))}
    </Stack>
  );
}
