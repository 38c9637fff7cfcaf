import { Button, HStack, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask, type NewBulk, type PolicyPatch } from '../api/client';
import { valuesIn, withValue } from '../shared/policy';
import { useStartingPoints } from '../shared/starting-points';
import { Choice, Loading, Trouble } from '../ui/parts';

/** PolicyOfMany picks settings of a policy, each with what it becomes. */
export function PolicyOfMany(props: { patch: PolicyPatch; onPatch: (p: PolicyPatch) => void }) {
  const [next, setNext] = useState('post');
  const summary = useQuery({
    queryKey: ['naming', 'policy-settings'],
    queryFn: () => ask(api.POST('/api/v1/policy-summaries', { body: {} })),
  });
  if (!summary.data) return summary.error ? <Trouble error={summary.error} /> : <Loading what="the settings" />;
  const { settings } = summary.data;
  const chosen = valuesIn(props.patch, settings);
  const setting = settings.find((s) => s.name === next) ?? settings[0];
  return (
    <Stack gap="2">
      {settings
        .filter((s) => chosen[s.name] !== undefined)
        .map((s) => (
          <HStack key={s.name} align="end">
            <Choice
              label={s.asks}
              value={chosen[s.name] ?? ''}
              choices={s.choices.map((c) => [c.value, c.in] as const)}
              onChange={(v) => props.onPatch(withValue(props.patch, s, v))}
            />
            <Button
              size="xs"
              variant="ghost"
              colorPalette="gray"
              aria-label={`Leave as it is: ${s.asks}`}
              onClick={() =>
                props.onPatch(
                  settings.reduce(
                    (p, x) =>
                      x.name === s.name || chosen[x.name] === undefined ? p : withValue(p, x, chosen[x.name] ?? ''),
                    {} as PolicyPatch,
                  ),
                )
              }
            >
              Leave it as it is
            </Button>
          </HStack>
        ))}
      <HStack>
        <NativeSelect.Root size="sm" maxW="22rem">
          <NativeSelect.Field aria-label="Setting" value={next} onChange={(e) => setNext(e.target.value)}>
            {settings
              .filter((s) => chosen[s.name] === undefined)
              .map((s) => (
                <option key={s.name} value={s.name}>
                  {s.asks}
                </option>
              ))}
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
        {setting && (
          <Button
            size="sm"
            variant="outline"
            colorPalette="gray"
            onClick={() => {
              props.onPatch(withValue(props.patch, setting, setting.value));
              setNext(settings.find((s) => s.name !== setting.name && chosen[s.name] === undefined)?.name ?? '');
            }}
          >
            Change this
          </Button>
        )}
      </HStack>
    </Stack>
  );
}

/** AliasesOfMany says one thing of further addresses. */
export function AliasesOfMany(props: {
  change: NonNullable<NewBulk['aliases']>;
  onChange: (c: NonNullable<NewBulk['aliases']>) => void;
}) {
  const domains = useQuery({ queryKey: ['naming', 'domains'], queryFn: () => ask(api.GET('/api/v1/domains')) });
  const names = (domains.data?.items ?? []).map((d) => [d.name, d.name] as const);
  const { change } = props;
  const what = change.add_in !== undefined ? 'add' : change.remove_in !== undefined ? 'remove' : 'unused';
  const first = names.at(-1)?.[0] ?? '';
  return (
    <HStack align="end" wrap="wrap">
      <Choice
        label="Their further addresses"
        value={what}
        choices={[
          ['unused', 'Take away those without mail for'],
          ['add', 'Give each one at'],
          ['remove', 'Take away those at'],
        ]}
        onChange={(w) =>
          props.onChange(w === 'add' ? { add_in: first } : w === 'remove' ? { remove_in: first } : { unused_days: 365 })
        }
      />
      {what === 'unused' ? (
        <HStack>
          <Input
            size="sm"
            w="5rem"
            inputMode="numeric"
            aria-label="Days without mail"
            value={change.unused_days ?? ''}
            onChange={(e) => props.onChange({ unused_days: Number(e.target.value.replace(/\D/g, '')) })}
          />
          <Text>days</Text>
        </HStack>
      ) : (
        <Choice
          label="Mail domain"
          value={change.add_in ?? change.remove_in ?? ''}
          choices={names}
          onChange={(d) => props.onChange(what === 'add' ? { add_in: d } : { remove_in: d })}
        />
      )}
    </HStack>
  );
}

/** StartOfMany picks a starting point. */
export function StartOfMany(props: { start: string; onStart: (name: string) => void }) {
  const all = useStartingPoints();
  const choices = (all.data?.items ?? []).map((s) => [s.name, s.title] as const);
  return (
    <Choice
      label="They get its policy, its traits and its texts"
      value={props.start}
      choices={[['', 'Choose one'], ...choices]}
      onChange={props.onStart}
    />
  );
}
