import { Box, Grid, HStack, SimpleGrid, Stack, Text } from '@chakra-ui/react';
import type { Fault, Picture, PolicyPatch, StandIn } from '../api/client';
import { Choice } from './parts';
import { audiences, privacies, questions, settings } from './words';

type Half = Pick<Picture, 'join' | 'leave' | 'externals' | 'hold' | 'suspicious' | 'privacy'> & {
  policy: Record<string, string>;
};

/** over puts the choices of a draft over what the service last made of it, so that they show at once. */
function over(half: Half, patch: PolicyPatch): Half {
  return {
    ...half,
    policy: { ...half.policy, ...patch.policy },
    join: { ...half.join, ...(patch.join as Partial<Half['join']>) },
    leave: (patch.leave ?? half.leave) as Half['leave'],
    externals: (patch.externals ?? half.externals) as Half['externals'],
    hold: (patch.hold ?? half.hold) as Half['hold'],
    suspicious: (patch.suspicious ?? half.suspicious) as Half['suspicious'],
  };
}

/** Ladder draws the eight questions as rungs, filled up to the chosen one. */
function Ladder(props: {
  now: Half;
  was: Half;
  onChange: (question: string, audience: string) => void;
  disabled: boolean;
}) {
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
          {Object.entries(questions).map(([q, label]) => {
            const chosen = audiences.indexOf(props.now.policy[q] as (typeof audiences)[number]);
            const before = audiences.indexOf(props.was.policy[q] as (typeof audiences)[number]);
            return (
              <tr key={q}>
                <th scope="row">
                  {label} <span className="answer">{audiences[chosen]}</span>
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
                        name={`answer-${q}`}
                        aria-label={`${label}: ${a}`}
                        checked={i === chosen}
                        disabled={props.disabled}
                        onChange={() => props.onChange(q, a)}
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

/** PolicyEditor changes a draft of a policy: a patch over what is saved. */
export function PolicyEditor(props: {
  saved: Half;
  answered: Half; // the draft as the service last put it
  draft: PolicyPatch;
  onDraft: (patch: PolicyPatch) => void;
  disabled?: boolean;
}) {
  const { saved, draft, onDraft } = props;
  const now = over(props.answered, draft);
  const disabled = props.disabled ?? false;
  const answer = (question: string, audience: string) =>
    onDraft({ ...draft, policy: { ...draft.policy, [question]: audience } });
  // What a privacy fills in the service says; answers of the draft would go before it.
  const fill = (privacy: string) => {
    const rest = Object.entries(draft.policy ?? {}).filter(([q]) => !['find', 'see_people', 'read'].includes(q));
    onDraft({ ...draft, privacy, policy: Object.fromEntries(rest) });
  };
  return (
    <Stack gap="5">
      <SimpleGrid columns={{ base: 1, md: 2 }} gap="4">
        <Choice
          label="Privacy"
          value={now.privacy}
          disabled={disabled}
          choices={now.privacy === 'mixed' ? [['mixed', 'As set below'], ...privacies] : privacies}
          onChange={fill}
        />
        <Text fontSize="sm" color="fg.muted" alignSelf="end">
          Privacy fills in who can find it, see who is in it and read it.
        </Text>
      </SimpleGrid>
      <Ladder now={now} was={saved} onChange={answer} disabled={disabled} />
      <SimpleGrid columns={{ base: 1, md: 2 }} gap="4">
        <Choice
          {...settings.join}
          value={now.join.audience}
          changed={now.join.audience !== saved.join.audience}
          disabled={disabled}
          onChange={(v) => onDraft({ ...draft, join: { ...draft.join, audience: v } })}
        />
        <Choice
          {...settings.how}
          value={now.join.how}
          changed={now.join.how !== saved.join.how}
          disabled={disabled || now.join.audience === 'nobody'}
          onChange={(v) => onDraft({ ...draft, join: { ...draft.join, how: v } })}
        />
        {(['externals', 'leave', 'hold', 'suspicious'] as const).map((name) => (
          <Choice
            key={name}
            {...settings[name]}
            value={now[name]}
            changed={now[name] !== saved[name]}
            disabled={disabled}
            onChange={(v) => onDraft({ ...draft, [name]: v })}
          />
        ))}
      </SimpleGrid>
    </Stack>
  );
}

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
          {s.cant.length > 0 && <Text color="fg.muted">can’t {s.cant.join(', ')}</Text>}
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
          <HStack gap="1" align="baseline">
            <Text>
              <span className="warn">Take care.</span> {f.says}
            </Text>
          </HStack>
          <Text color="fg.muted">{f.mend}</Text>
        </Box>
      ))}
    </Stack>
  );
}
