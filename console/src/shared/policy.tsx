import { Box, Grid, Stack, Text } from '@chakra-ui/react';
import type { Fault, PolicyPatch, PolicySetting, PolicySummary, Sentence, StandIn } from '../api/client';
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

/** isAbove tells whether a value goes further than the workspace lets a group go. */
export const isAbove = (s: PolicySetting, value: string) =>
  s.ceiling !== undefined && ladder.indexOf(value) > ladder.indexOf(s.ceiling.at_most);

const ladder = ['nobody', 'owners', 'moderators', 'members', 'workspace', 'anyone'];

/** Said is a setting within a sentence: its words, which are a choice where it can be changed. */
function Said(props: {
  setting: PolicySetting;
  first: boolean; // the sentence begins with it
  value: string;
  was: string | undefined;
  onChange: (value: string) => void;
  disabled: boolean;
}) {
  const { setting: s, value, was, first } = props;
  const words = (v: string) => {
    const said = s.choices.find((c) => c.value === v)?.in ?? v;
    return first ? said.charAt(0).toUpperCase() + said.slice(1) : said;
  };
  const changed = was !== undefined && was !== value;
  return (
    <>
      {props.disabled ? (
        <b>{words(value)}</b>
      ) : (
        <select
          aria-label={s.asks}
          className={changed ? 'said changed' : 'said'}
          value={value}
          onChange={(e) => props.onChange(e.target.value)}
        >
          {s.choices.map((c) => (
            <option key={c.value} value={c.value} disabled={isAbove(s, c.value)}>
              {words(c.value)}
              {isAbove(s, c.value) && ` (above the ceiling that ${s.ceiling?.set_by} set)`}
            </option>
          ))}
        </select>
      )}
      {changed && <span className="was"> (was: {s.choices.find((c) => c.value === was)?.in ?? was})</span>}
    </>
  );
}

const partNames = [
  ['seeing', 'Seeing it'],
  ['getting_in', 'Getting in'],
  ['writing', 'Writing'],
] as const;

/** PolicyEditor says a policy in sentences, whose choices can be changed in place. */
export function PolicyEditor(props: {
  sentences: Sentence[];
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
      {partNames.map(([part, title]) => (
        <Box as="section" key={part} aria-label={title}>
          <Text fontWeight="600" color="fg.muted" fontSize="sm" mb="1">
            {title}
          </Text>
          <ul className="sentences">
            {props.sentences
              .filter((s) => s.part === part)
              .map((sentence) => (
                <li key={sentence.pieces.map((p) => p.setting).join()}>
                  {sentence.pieces.map((piece, i) => {
                    const setting = settings.find((s) => s.name === piece.setting);
                    if (!setting) return <span key={i}>{piece.text}</span>;
                    return (
                      <Said
                        key={i}
                        setting={setting}
                        first={i === 0}
                        value={values[setting.name] ?? setting.value}
                        was={was[setting.name]}
                        onChange={(v) => props.onValue(setting.name, v)}
                        disabled={disabled}
                      />
                    );
                  })}
                </li>
              ))}
          </ul>
          {part === 'seeing' && (
            <Box maxW="22rem" mt="3">
              <Choice
                label="In short: who it is open to"
                value={privacy}
                disabled={disabled}
                choices={privacy === 'mixed' ? [['mixed', 'As it is said above'], ...privacies] : privacies}
                onChange={props.onPrivacy}
              />
            </Box>
          )}
        </Box>
      ))}
    </Stack>
  );
}

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
