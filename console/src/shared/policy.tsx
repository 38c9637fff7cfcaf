import { Box, Grid, SimpleGrid, Stack, Text } from '@chakra-ui/react';
import type { Fault, PolicyPatch, PolicySetting, PolicySummary, StandIn } from '../api/client';
import { Choice } from '../ui/parts';

/** Values are the values of the settings of a policy, by their names. */
export type Values = Record<string, string>;

export const valuesOf = (p: PolicySummary): Values => Object.fromEntries(p.settings.map((s) => [s.name, s.value]));

type Parts = { [part: string]: string | Values | undefined };

/** placeOf is where a patch has a setting: a part of it, and a name in that part where it has several. */
const placeOf = (s: PolicySetting): [part: string, name?: string] =>
  s.question ? ['policy', s.name] : (s.name.split('.') as [string, string?]);

/** withValue returns a patch in which one setting has a value. */
export function withValue(patch: PolicyPatch, setting: PolicySetting, value: string): PolicyPatch {
  const parts = patch as Parts;
  const [part, name] = placeOf(setting);
  return { ...parts, [part]: name ? { ...(parts[part] as Values | undefined), [name]: value } : value } as PolicyPatch;
}

/** valuesIn are the values that a patch has. */
export function valuesIn(patch: PolicyPatch, settings: PolicySetting[]): Values {
  const values: Values = {};
  for (const s of settings) {
    const [part, name] = placeOf(s);
    const found = (patch as Parts)[part];
    const value = typeof found === 'object' ? found[name ?? ''] : found;
    if (value !== undefined) values[s.name] = value;
  }
  return values;
}

/** What a privacy fills in. */
export const byPrivacy = ['find', 'see_people', 'read'] as const;

/** withPrivacy returns a patch in which a privacy takes the place of what it fills in. */
export function withPrivacy(patch: PolicyPatch, privacy: string): PolicyPatch {
  const policy = Object.fromEntries(
    Object.entries(patch.policy ?? {}).filter(([question]) => !byPrivacy.some((q) => q === question)),
  );
  return { ...patch, policy, privacy: privacy as NonNullable<PolicyPatch['privacy']> };
}

/** patchOf returns those values as a patch that differ from others. */
export const patchOf = (settings: PolicySetting[], values: Values, from: Values): PolicyPatch =>
  settings.reduce((patch, s) => {
    const value = values[s.name];
    return value === undefined || value === from[s.name] ? patch : withValue(patch, s, value);
  }, {} as PolicyPatch);

const privacies = [
  ['members', 'Members only'],
  ['workspace', 'Whole workspace'],
  ['anyone', 'Anyone on the internet'],
] as const;

/** Ladder draws the questions as rungs, filled up to the chosen one. */
function Ladder(props: {
  questions: PolicySetting[];
  now: Values;
  was: Values;
  onChange: (question: string, audience: string) => void;
  disabled: boolean;
}) {
  const audiences = props.questions[0]?.choices.map((c) => c.value) ?? [];
  return (
    <Box overflowX="auto">
      <table className="ladder">
        <thead>
          <tr>
            <td />
            {audiences.map((a) => (
              <th key={a} scope="col">
                {a}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {props.questions.map((q) => {
            const chosen = audiences.indexOf(props.now[q.name] ?? '');
            const before = audiences.indexOf(props.was[q.name] ?? '');
            return (
              <tr key={q.name}>
                <th scope="row">
                  {q.asks} <span className="answer">{audiences[chosen]}</span>
                </th>
                {audiences.map((a, i) => (
                  <td key={a}>
                    <label
                      className={[
                        i === chosen ? 'chosen' : i < chosen && i > 0 ? 'filled' : '',
                        before !== chosen && i === before ? 'was' : '',
                      ].join(' ')}
                    >
                      <input
                        type="radio"
                        name={`answer-${q.name}`}
                        aria-label={`${q.asks}: ${a}`}
                        checked={i === chosen}
                        disabled={props.disabled}
                        onChange={() => props.onChange(q.name, a)}
                      />
                      <span className="word">{i === chosen ? a : before !== chosen && i === before ? 'was' : ''}</span>
                    </label>
                  </td>
                ))}
              </tr>
            );
          })}
        </tbody>
      </table>
    </Box>
  );
}

/** PolicyEditor changes the values of a policy, in the words that the service has for them. */
export function PolicyEditor(props: {
  settings: PolicySetting[];
  privacy: string;
  values: Values;
  was: Values;
  onValue: (name: string, value: string) => void;
  onPrivacy: (privacy: string) => void;
  disabled?: boolean;
}) {
  const { settings, values, was, privacy } = props;
  const disabled = props.disabled ?? false;
  return (
    <Stack gap="5">
      <SimpleGrid columns={{ base: 1, md: 2 }} gap="4">
        <Choice
          label="Privacy"
          value={privacy}
          disabled={disabled}
          choices={privacy === 'mixed' ? [['mixed', 'As set below'], ...privacies] : privacies}
          onChange={props.onPrivacy}
        />
        <Text fontSize="sm" color="fg.muted" alignSelf="end">
          Privacy fills in who can find it, see who is in it and read it.
        </Text>
      </SimpleGrid>
      <Ladder
        questions={settings.filter((s) => s.question)}
        now={values}
        was={was}
        onChange={props.onValue}
        disabled={disabled}
      />
      <SimpleGrid columns={{ base: 1, md: 2 }} gap="4">
        {settings
          .filter((s) => !s.question)
          .map((s) => {
            const value = values[s.name] ?? s.value;
            const before = was[s.name];
            return (
              <Choice
                key={s.name}
                label={s.asks}
                value={value}
                was={before !== undefined && before !== value ? labelOf(s, before) : undefined}
                disabled={disabled || (s.name === 'join.how' && values['join.audience'] === 'nobody')}
                choices={s.choices.map((c) => [c.value, c.label])}
                onChange={(v) => props.onValue(s.name, v)}
              />
            );
          })}
      </SimpleGrid>
    </Stack>
  );
}

const labelOf = (s: PolicySetting, value: string) => s.choices.find((c) => c.value === value)?.label ?? value;

/** asked is what a setting decides, in the words of the service. */
export const asked = (settings: PolicySetting[], name: string) => settings.find((s) => s.name === name)?.asks ?? name;

/** StandIns lets four kinds of people say what they could do. */
export function StandIns({ list, columns = 1 }: { list: StandIn[]; columns?: number }) {
  return (
    <Grid templateColumns={{ base: 'minmax(0, 1fr)', md: `repeat(${columns}, 1fr)` }} gap="3">
      {list.map((s) => (
        <Box
          key={s.who}
          fontSize="sm"
          borderLeftWidth="3px"
          borderColor={s.who === 'stranger' ? 'brass.border' : 'ivy.border'}
          pl="3"
        >
          <Text fontWeight="600">{s.who === 'owner' ? 'An owner' : `A ${s.who}`}</Text>
          {s.can.length > 0 && <Text>can {s.can.join(', ')}</Text>}
          {s.cannot.length > 0 && <Text color="fg.muted">can't {s.cannot.join(', ')}</Text>}
        </Box>
      ))}
    </Grid>
  );
}

/** Faults lists contradictions, which can't be saved, and warnings, which can. */
export function Faults({ contradictions, warnings }: { contradictions: Fault[]; warnings: Fault[] }) {
  return (
    <Stack gap="2">
      {contradictions.map((f) => (
        <Box key={f.field + f.says} role="alert" borderLeftWidth="4px" borderColor="red.500" pl="3" fontSize="sm">
          <Text>
            <b>Not possible.</b> {f.says}
          </Text>
          <Text color="fg.muted">{f.mend}</Text>
        </Box>
      ))}
      {warnings.map((f) => (
        <Box key={f.field + f.says} borderLeftWidth="4px" borderColor="brass.solid" pl="3" fontSize="sm">
          <Text>
            <span className="warn">Take care.</span> {f.says}
          </Text>
          <Text color="fg.muted">{f.mend}</Text>
        </Box>
      ))}
    </Stack>
  );
}
