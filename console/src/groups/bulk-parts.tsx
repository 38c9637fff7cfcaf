import { Button, HStack, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask, type NewBulk, type PolicyPatch } from '../api/client';
import { PeoplePicker } from '../shared/people-picker';
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

/** ExternalsOfMany says what becomes of external members. */
export function ExternalsOfMany(props: {
  change: NonNullable<NewBulk['external_members']>;
  onChange: (c: NonNullable<NewBulk['external_members']>) => void;
}) {
  const { change, onChange } = props;
  const what = change.remove ? 'out' : change.voucher !== undefined ? 'voucher' : 'until';
  const which = {
    ...(change.domain ? { domain: change.domain } : {}),
    ...(change.without_voucher ? { without_voucher: true } : {}),
  };
  const without = (field: keyof typeof change) =>
    Object.fromEntries(Object.entries(change).filter(([name]) => name !== field)) as typeof change;
  return (
    <Stack gap="3">
      <HStack align="end" wrap="wrap">
        <Choice
          label="What becomes of them"
          value={what}
          choices={[
            ['until', 'They are in until'],
            ['voucher', 'Somebody answers for them'],
            ['out', 'They are taken out'],
          ]}
          onChange={(w) =>
            onChange({
              ...which,
              ...(w === 'out' ? { remove: true } : w === 'voucher' ? { voucher: '' } : { until: '' }),
            })
          }
        />
        {what === 'until' && (
          <Input
            size="sm"
            w="10rem"
            type="date"
            aria-label="Their last day"
            value={change.until ?? ''}
            onChange={(e) => onChange({ ...which, until: e.target.value })}
          />
        )}
      </HStack>
      {what === 'voucher' && (
        <HStack align="end" wrap="wrap">
          <PeoplePicker
            label="Who answers for them"
            placeholder="Begin to type a name"
            taken={change.voucher ? [change.voucher] : []}
            onPick={(voucher) => onChange({ ...change, voucher })}
          />
          {change.voucher && <Text>{change.voucher}</Text>}
          <Input
            size="sm"
            maxLength={500}
            aria-label="Why they are in it"
            placeholder="Why they are in it, if you like"
            value={change.reason ?? ''}
            onChange={(e) => {
              const rest = without('reason');
              onChange(e.target.value ? { ...rest, reason: e.target.value } : rest);
            }}
          />
        </HStack>
      )}
      <HStack wrap="wrap" gap="4">
        <Input
          size="sm"
          w="16rem"
          aria-label="Of which mail domain"
          placeholder="Of this mail domain alone; else all"
          value={change.domain ?? ''}
          onChange={(e) => {
            const rest = without('domain');
            onChange(e.target.value ? { ...rest, domain: e.target.value } : rest);
          }}
        />
        <HStack as="label">
          <input
            type="checkbox"
            checked={change.without_voucher ?? false}
            onChange={(e) => {
              const rest = without('without_voucher');
              onChange(e.target.checked ? { ...rest, without_voucher: true } : rest);
            }}
          />
          Those alone for whom nobody answers
        </HStack>
      </HStack>
    </Stack>
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
