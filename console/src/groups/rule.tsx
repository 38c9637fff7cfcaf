import { Box, Button, HStack, Input, Stack, Text, Textarea } from '@chakra-ui/react';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { useRef, useState } from 'react';
import { api, ask, type Group, Refusal, type RuleEffect } from '../api/client';
import { date, plural } from '../ui/dates';
import { Fact, Panel, Trouble } from '../ui/parts';
import { PeoplePicker } from '../ui/people-picker';
import { useSettled } from '../ui/settled';
import { toaster } from '../ui/toaster';

const octets = (s: string) => new TextEncoder().encode(s).length;
const upTo = (s: string, n: number) => new TextDecoder().decode(new TextEncoder().encode(s).slice(0, n));

/**
 * RuleField is a field for a rule that offers what can be written next: attributes, operators,
 * and the values that people have.
 */
export function RuleField(props: { value: string; onChange: (v: string) => void; effect?: RuleEffect | undefined }) {
  const field = useRef<HTMLTextAreaElement>(null);
  const [at, setAt] = useState(props.value.length);
  const asked = useSettled(props.value.slice(0, at), 120);
  const completion = useQuery({
    queryKey: ['rule-completion', asked],
    placeholderData: keepPreviousData,
    staleTime: 60_000,
    queryFn: () => ask(api.GET('/api/v1/rules/completion', { params: { query: { text: asked, at: octets(asked) } } })),
  });
  const take = (text: string) => {
    const begun = upTo(props.value, completion.data?.from ?? 0);
    const next = `${begun}${text} `;
    props.onChange(next + props.value.slice(at).trimStart());
    setAt(next.length);
    field.current?.focus();
  };
  const bad = props.effect && !props.effect.valid && props.value.trim() !== '';
  return (
    <Stack gap="2">
      <Textarea
        ref={field}
        name="rule"
        aria-label="Rule"
        rows={3}
        fontFamily="mono"
        fontSize="sm"
        spellCheck={false}
        placeholder={'department eq "Deck" and not (title sw "Trainee")'}
        value={props.value}
        aria-invalid={bad ? true : undefined}
        onChange={(e) => {
          props.onChange(e.target.value);
          setAt(e.target.selectionStart);
        }}
        onSelect={(e) => setAt(e.currentTarget.selectionStart)}
      />
      {completion.data && completion.data.choices.length > 0 && (
        <HStack wrap="wrap" gap="1" aria-label="What can be written here" role="group">
          <Text fontSize="xs" color="fg.muted">
            {{ attribute: 'Attribute:', operator: 'Operator:', value: 'Value:', join: 'Then:' }[completion.data.what]}
          </Text>
          {completion.data.choices.slice(0, 14).map((c) => (
            <Button
              key={c.text}
              size="2xs"
              variant="outline"
              colorPalette="gray"
              title={c.about}
              onMouseDown={(e) => e.preventDefault()}
              onClick={() => take(c.text)}
            >
              {c.text}
              {c.about && completion.data.what !== 'value' && (
                <Text as="span" color="fg.muted">
                  {c.about}
                </Text>
              )}
            </Button>
          ))}
        </HStack>
      )}
      {bad && (
        <Text role="alert" fontSize="sm">
          <span className="warn">At character {upTo(props.value, props.effect?.at ?? 0).length + 1}:</span>{' '}
          {props.effect?.says}
        </Text>
      )}
    </Stack>
  );
}

/** useRuleEffect asks whom a rule would take, once it is not being typed any more. */
export function useRuleEffect(expression: string, group?: string) {
  const settled = useSettled(expression, 250);
  return useQuery({
    queryKey: ['rule-effect', settled, group],
    enabled: settled.trim() !== '',
    placeholderData: keepPreviousData,
    queryFn: () =>
      ask(api.POST('/api/v1/rules/effect', { body: { expression: settled, ...(group ? { group } : {}) } })),
  });
}

const names = (list: { name: string }[], n: number) =>
  list
    .slice(0, 8)
    .map((x) => x.name)
    .join(', ') + (n > 8 ? ` and ${n - 8} more` : '');

/** RuleEffectView says who matches, who would come and go, who nearly matches, and what is not filled in. */
export function RuleEffectView({ effect: e }: { effect: RuleEffect }) {
  if (!e.valid) return null;
  return (
    <Stack gap="2" fontSize="sm" aria-live="polite">
      <Text fontWeight="600">{e.says}</Text>
      {e.match > 0 && e.come !== e.match && (
        <Text>
          <b>Match:</b> {names(e.matches, e.match)}
        </Text>
      )}
      {e.come > 0 && (
        <Text>
          <b>Would come:</b> {names(e.coming, e.come)}
        </Text>
      )}
      {e.go > 0 && (
        <Text>
          <b>Would go:</b> {names(e.going, e.go)}
        </Text>
      )}
      {e.lacking
        .filter((l) => l.people > 0)
        .map((l) => (
          <Text key={l.attribute}>
            <span className="warn">
              {plural(l.people, 'person has', 'people have')} no {l.label}
            </span>
            , of {e.people}: the rule can’t tell whether they match.
          </Text>
        ))}
      {e.near > 0 && (
        <Box as="details">
          <Text as="summary">{plural(e.near, 'person misses', 'people miss')} by one part</Text>
          <Box maxH="14rem" overflow="auto" mt="1" tabIndex={0} role="region" aria-label="Who nearly matches">
            <table className="list">
              <tbody>
                {e.near_misses.map((n) => (
                  <tr key={n.address}>
                    <td>{n.name}</td>
                    <td style={{ whiteSpace: 'normal' }}>
                      {n.says}
                      <span className="under">
                        not <code>{n.failed}</code>
                      </span>
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Box>
        </Box>
      )}
    </Stack>
  );
}

/** Rule shows and changes the rule of membership of a group. */
export function Rule({ group: g }: { group: Group }) {
  const path = { ref: g.address };
  const may = g.may?.includes('rule') && !g.term.ended_at;
  const [draft, setDraft] = useState<string | null>(null);
  const [guard, setGuard] = useState('20');
  const rule = useQuery({
    queryKey: ['rule', g.address],
    enabled: g.by_rule,
    queryFn: () => ask(api.GET('/api/v1/groups/{ref}/rule', { params: { path } })),
  });
  const effect = useRuleEffect(draft ?? '', g.address);
  const done = {
    onSuccess: () => setDraft(null),
  };
  const set = useMutation({
    mutationFn: (confirm: boolean) =>
      ask(
        api.PUT('/api/v1/groups/{ref}/rule', {
          params: { path },
          body: { expression: draft ?? '', guard: Number(guard), confirm },
        }),
      ),
    ...done,
  });
  const remove = useMutation({
    mutationFn: (people: boolean) =>
      ask(api.DELETE('/api/v1/groups/{ref}/rule', { params: { path, query: { remove: people } } })),
    ...done,
  });
  const release = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/groups/{ref}/rule/release', { params: { path } })),
    onSuccess: (r) =>
      toaster.create({ type: 'success', title: `${plural(r.members, 'person is', 'people are')} in by the rule` }),
  });
  const r = g.by_rule ? rule.data : undefined;
  const guarded = set.error instanceof Refusal && set.error.status === 409;
  if (!may && !r) return null;
  return (
    <Panel
      title="Membership by rule"
      side={
        may &&
        draft === null && (
          <Button
            size="xs"
            variant="outline"
            colorPalette="gray"
            onClick={() => {
              setGuard(String(r?.guard ?? 20));
              setDraft(r?.expression ?? '');
            }}
          >
            {r ? 'Change the rule' : 'Set a rule'}
          </Button>
        )
      }
    >
      <Stack gap="3">
        {draft === null && !r && (
          <Text color="fg.muted" fontSize="sm">
            Without a rule, people are put in by hand. With one, whoever’s directory attributes match is in, and goes
            when they no longer do.
          </Text>
        )}
        {draft === null && r && (
          <Stack as="dl" gap="1">
            <Fact name="Rule">
              <code>{r.expression}</code>
            </Fact>
            <Fact name="In by it">{plural(r.members, 'person', 'people')}</Fact>
            <Fact name="Guard">a change that would remove more than {r.guard}% of them waits for a person</Fact>
            <Fact name="Set">
              by {r.set_by}, {date(r.set_at ?? '')}
            </Fact>
          </Stack>
        )}
        {draft === null && r?.held && (
          <Box borderLeftWidth="4px" borderColor="brass.solid" pl="3" role="alert" fontSize="sm">
            <Text>
              <span className="warn">{plural(r.held.go, 'person', 'people')} would go</span> because {r.held.cause}.
              That is more than the guard allows, so they are still in.
            </Text>
            {may && (
              <Button
                size="xs"
                mt="1"
                variant="outline"
                colorPalette="brass"
                loading={release.isPending}
                onClick={() => release.mutate()}
              >
                Let it happen
              </Button>
            )}
          </Box>
        )}
        {draft === null && r && may && <Explain group={g.address} />}
        {draft !== null && (
          <>
            <RuleField value={draft} onChange={setDraft} effect={effect.data} />
            {effect.data && <RuleEffectView effect={effect.data} />}
            <Trouble error={effect.error ?? set.error ?? remove.error} />
            <HStack wrap="wrap">
              <Button
                size="sm"
                colorPalette={guarded ? 'red' : 'ivy'}
                disabled={!effect.data?.valid || draft.trim() === ''}
                loading={set.isPending}
                onClick={() => set.mutate(guarded)}
              >
                {guarded
                  ? `Do it, and let ${effect.data?.go ?? 0} go`
                  : effect.data?.valid
                    ? `Put it in force: ${effect.data.come} come, ${effect.data.go} go`
                    : 'Put it in force'}
              </Button>
              <label style={{ fontSize: '0.85rem' }}>
                Guard{' '}
                <Input
                  size="xs"
                  w="4rem"
                  type="number"
                  min="0"
                  max="100"
                  value={guard}
                  onChange={(e) => setGuard(e.target.value)}
                />{' '}
                %
              </label>
              {r && (
                <Button
                  size="sm"
                  variant="outline"
                  colorPalette="gray"
                  loading={remove.isPending}
                  onClick={() => remove.mutate(false)}
                >
                  Take the rule away, keep its people
                </Button>
              )}
              <Button size="sm" variant="ghost" colorPalette="gray" onClick={() => setDraft(null)}>
                Leave it
              </Button>
            </HStack>
          </>
        )}
      </Stack>
    </Panel>
  );
}

/** Explain says how the rule of a group stands for one person. */
function Explain({ group }: { group: string }) {
  const explain = useMutation({
    mutationFn: (person: string) =>
      ask(api.POST('/api/v1/rules/explanation', { body: { expression: '', group, person } })),
  });
  return (
    <Box maxW="30rem">
      <PeoplePicker
        label="Why is somebody in it, or not?"
        placeholder="Begin to type a name"
        taken={[]}
        onPick={(a) => explain.mutate(a)}
      />
      <Trouble error={explain.error} />
      {explain.data && (
        <Stack gap="1" mt="2" fontSize="sm" aria-live="polite">
          <Text fontWeight="600">{explain.data.says}</Text>
          {explain.data.parts.map((p, i) => (
            <Text key={i}>
              {p.verdict === 'match' ? '✓' : p.verdict === 'unknown' ? '?' : '✗'} <code>{p.text}</code>{' '}
              <Text as="span" color="fg.muted">
                {p.says}
              </Text>
            </Text>
          ))}
        </Stack>
      )}
    </Box>
  );
}
