import { Box, Button, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useWatch } from 'react-hook-form';
import { api, ask, type Group, type Preview, Refusal } from '../api/client';
import { date, people, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useDraft } from '../lib/use-draft';
import { useSettled } from '../lib/use-settled';
import { ExpressionField } from '../shared/expression';
import { PeoplePicker } from '../shared/people-picker';
import { Fact, Moved, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';

/** RuleField is a field for a rule of membership. */
export function RuleField(props: { value: string; onChange: (v: string) => void; preview?: Preview | undefined }) {
  const match = props.preview?.rule;
  const bad = match && !match.valid && props.value.trim() !== '';
  return (
    <ExpressionField
      label="Rule"
      name="rule"
      rows={3}
      placeholder={'department eq "Deck" and not (title sw "Trainee")'}
      value={props.value}
      onChange={props.onChange}
      wrong={bad ? { at: match.at, says: props.preview?.says ?? '' } : undefined}
    />
  );
}

/** useRuleMatch asks whom a rule would take, in a group or in a new one, once it is not being typed any more. */
export function useRuleMatch(expression: string, group?: string, guard?: number) {
  const settled = useSettled(expression, 250);
  return useQuery({
    queryKey: ['rule', 'match', settled, group, guard],
    enabled: settled.trim() !== '',
    placeholderData: keepPreviousData,
    queryFn: () =>
      group
        ? ask(
            api.POST('/api/v1/groups/{ref}/rule/preview', {
              params: { path: { ref: group } },
              body: { expression: settled, ...(guard === undefined ? {} : { guard }) },
            }),
          )
        : ask(api.POST('/api/v1/rules/preview', { body: { expression: settled } })),
  });
}

const names = (list: { name: string }[], n: number) =>
  list
    .slice(0, 8)
    .map((x) => x.name)
    .join(', ') + (n > 8 ? ` and ${n - 8} more` : '');

/** RuleMatchView says who matches, who would come and go, who nearly matches, and what is not filled in. */
export function RuleMatchView({ preview }: { preview: Preview }) {
  const e = preview.rule;
  if (!e?.valid) return null;
  return (
    <Stack gap="2" fontSize="sm" aria-live="polite">
      <Text fontWeight="600">{preview.says}</Text>
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
            , of {e.people}: the rule can't tell whether they match.
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
  const path = { ref: g.id };
  const may = g.may?.includes('rule') && !g.term.ended_at;
  const [open, setOpen] = useState(false);
  const rule = useQuery({
    queryKey: ['rule', g.id],
    enabled: g.by_rule,
    queryFn: () => ask(api.GET('/api/v1/groups/{ref}/rule', { params: { path } })),
  });
  const release = useChange(
    ['rule', 'group', 'member', 'person'],
    () => ask(api.POST('/api/v1/groups/{ref}/rule/release', { params: { path } })),
    {
      onSuccess: (r) =>
        toaster.create({ type: 'success', title: `${plural(r.members, 'person is', 'people are')} in by the rule` }),
    },
  );
  const r = g.by_rule ? rule.data : undefined;
  if (!may && !r) return null;
  return (
    <Panel
      title="Membership by rule"
      side={
        may &&
        !open && (
          <Button size="xs" variant="outline" colorPalette="gray" onClick={() => setOpen(true)}>
            {r ? 'Change the rule' : 'Set a rule'}
          </Button>
        )
      }
    >
      <Stack gap="3">
        {!open && !r && (
          <Text color="fg.muted" fontSize="sm">
            Without a rule, people are put in by hand. With one, whoever's directory attributes match is in, and goes
            when they no longer do.
          </Text>
        )}
        {!open && r && (
          <Stack as="dl" gap="1">
            <Fact name="Rule">
              <code>{r.expression}</code>
            </Fact>
            <Fact name="In by it">{people(r.members)}</Fact>
            <Fact name="Guard">a change that would remove more than {r.guard}% of them waits for a person</Fact>
            <Fact name="Set">
              by {r.set_by}, {date(r.set_at ?? '')}
            </Fact>
          </Stack>
        )}
        {!open && r?.pending && (
          <Box borderLeftWidth="4px" borderColor="brass.solid" pl="3" role="alert" fontSize="sm">
            <Text>
              <span className="warn">{people(r.pending.go)} would go</span> because {r.pending.cause}. That is more than
              the guard allows, so they are still in.
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
        {!open && r && may && <Explain group={g.id} />}
        {open && (
          <RuleForm
            group={g}
            saved={{ expression: r?.expression ?? '', guard: String(r?.guard ?? 20) }}
            version={r?.version ?? 0}
            onDone={() => setOpen(false)}
          />
        )}
      </Stack>
    </Panel>
  );
}

function RuleForm(props: {
  group: Group;
  saved: { expression: string; guard: string };
  version: number;
  onDone: () => void;
}) {
  const { group: g, saved, version, onDone } = props;
  const path = { ref: g.id };
  const [confirm, setConfirm] = useState(false);
  const draft = useDraft({
    saved,
    version,
    touches: ['rule', 'group', 'member', 'person'],
    save: (v, tag) =>
      ask(
        api.PUT('/api/v1/groups/{ref}/rule', {
          params: { path, ...(version ? { header: { 'If-Match': tag } } : {}) },
          body: { expression: v.expression, guard: Number(v.guard), confirm },
        }),
      ),
    onSaved: onDone,
  });
  const remove = useChange(
    ['rule', 'group', 'member', 'person'],
    (takeOut: boolean) =>
      ask(api.DELETE('/api/v1/groups/{ref}/rule', { params: { path, query: { remove: takeOut } } })),
    { onSuccess: onDone },
  );
  const v = useWatch({ control: draft.form.control }) as typeof saved;
  const match = useRuleMatch(v.expression, g.id, Number(v.guard) || 0);
  const m = match.data?.rule;
  const guarded = draft.error instanceof Refusal && draft.error.status === 409;
  return (
    <>
      <Moved draft={draft} />
      <RuleField
        value={v.expression}
        onChange={(x) => draft.form.setValue('expression', x, { shouldDirty: true })}
        preview={match.data}
      />
      {match.data && <RuleMatchView preview={match.data} />}
      <Trouble error={match.error ?? draft.error ?? remove.error} />
      {guarded && (
        <label style={{ fontSize: '0.9rem' }}>
          <input type="checkbox" checked={confirm} onChange={(e) => setConfirm(e.target.checked)} /> That is meant: let{' '}
          {m?.go ?? 0} go
        </label>
      )}
      <HStack wrap="wrap">
        <Button
          size="sm"
          colorPalette={confirm ? 'red' : 'ivy'}
          disabled={!m?.valid || v.expression.trim() === ''}
          loading={draft.saving}
          onClick={() => void draft.save()}
        >
          {confirm
            ? `Do it, and let ${m?.go ?? 0} go`
            : m?.valid
              ? `Put it in force: ${m.come} come, ${m.go} go`
              : 'Put it in force'}
        </Button>
        <label style={{ fontSize: '0.85rem' }}>
          Guard <Input size="xs" w="4rem" type="number" min="0" max="100" {...draft.register('guard')} /> %
        </label>
        {version > 0 && (
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
        <Button size="sm" variant="ghost" colorPalette="gray" onClick={onDone}>
          Leave it
        </Button>
      </HStack>
    </>
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
