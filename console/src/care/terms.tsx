import { Box, Button, Field, Grid, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, ask, type Fault, type Preview, Refusal, type TermRule, type Terms as Saved } from '../api/client';
import { date, inWords, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useSettled } from '../lib/use-settled';
import { useMe } from '../session/me';
import { ExpressionField } from '../shared/expression';
import { GroupField } from '../shared/group-field';
import { Columns } from '../ui/columns';
import { Loading, Moved, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';
import { columnsOf, spanOf } from './periods';

/** What is sent: what the service works out is left out. */
const toSend = (t: Saved): Saved => ({
  rules: t.rules.map(({ name, filter, length, notices, renewed_by }) => ({
    name,
    length,
    ...(filter ? { filter } : {}),
    ...(notices?.length ? { notices } : {}),
    ...(renewed_by?.length ? { renewed_by } : {}),
  })),
  notices: t.notices,
  recovery_days: t.recovery_days,
  address_days: t.address_days,
  managers: t.managers,
  caretakers: t.caretakers.map(({ address, filter }) => ({ address, ...(filter ? { filter } : {}) })),
  time_zone: t.time_zone,
});

const listed = (days: number[] | undefined) => (days ?? []).join(', ');
const read = (text: string) =>
  text
    .split(/[\s,]+/)
    .filter(Boolean)
    .map((s) => (/^\d+$/.test(s) ? Number(s) : 0));
const number = (text: string) => (/^\d+$/.test(text.trim()) ? Number(text.trim()) : 0);

/** Terms is how long groups live: the rules, their notices, who is told of groups without owners. */
export default function Terms() {
  const terms = useQuery({ queryKey: ['life', 'terms'], queryFn: () => ask(api.GET('/api/v1/terms')) });
  if (terms.error) return <Trouble error={terms.error} retry={() => void terms.refetch()} />;
  return terms.data ? <Editor saved={terms.data} /> : <Loading what="the term rules" />;
}

function Editor({ saved }: { saved: Saved }) {
  const may = useMe().may.includes('change_terms');
  const [draft, setDraft] = useState<Saved>();
  const [began, setBegan] = useState(saved.version ?? 0);
  const [open, setOpen] = useState<number>();
  const terms = draft ?? saved;
  const body = JSON.stringify(toSend(terms));
  const dirty = draft !== undefined && body !== JSON.stringify(toSend(saved));
  if (!dirty && began !== saved.version) setBegan(saved.version ?? 0);
  const asked = useSettled(body, 300);
  const preview = useQuery({
    queryKey: ['life', 'terms', 'preview', saved.version, asked],
    enabled: dirty && may && asked === body,
    queryFn: () => ask(api.POST('/api/v1/terms/preview', { body: JSON.parse(asked) as Saved })),
  });
  const drop = () => {
    setDraft(undefined);
    setOpen(undefined);
  };
  const save = useChange(
    ['life', 'group', 'me'],
    () =>
      ask(
        api.PUT('/api/v1/terms', { params: { header: { 'If-Match': `"${began}"` } }, body: JSON.parse(body) as Saved }),
      ),
    {
      onSuccess: () => {
        drop();
        toaster.create({ type: 'success', title: 'The terms are in force' });
      },
    },
  );
  const p = dirty && asked === body ? preview.data : undefined;
  const problems = [
    ...(p?.problems ?? []),
    ...(preview.error instanceof Refusal ? preview.error.problems : []),
    ...(save.error instanceof Refusal ? save.error.problems : []),
  ];
  const says = (field: string) => problems.find((x) => x.field === field)?.says;
  const setRules = (rules: TermRule[]) => setDraft({ ...terms, rules });
  return (
    <Grid templateColumns={{ base: 'minmax(0, 1fr)', lg: '3fr 2fr' }} gap="5" alignItems="start">
      <Stack gap="5">
        <Panel title="How long groups live">
          <Stack gap="3">
            <Moved
              draft={{
                moved: dirty && began !== saved.version,
                keepMine: () => setBegan(saved.version ?? 0),
                drop,
              }}
            />
            <Text fontSize="sm" color="fg.muted">
              The first rule that names a group holds for it, from its last renewal on. Groups that no rule names have
              no end.
            </Text>
            {terms.rules.length === 0 && <Text>There is no rule yet: groups never expire.</Text>}
            <Stack as="ol" gap="2" listStyleType="none">
              {terms.rules.map((r, i) => (
                <Rule
                  key={i}
                  rule={r}
                  usual={terms.notices}
                  may={may}
                  first={i === 0}
                  last={i === terms.rules.length - 1}
                  open={open === i}
                  holds={saved.rules.find((x) => x.name === r.name)?.groups}
                  will={p?.effects.find((e) => e.field === `rule:${r.name}`)?.count ?? (p ? 0 : undefined)}
                  warning={p?.warnings.find((w) => w.field === `rules[${i}]`)}
                  says={(field) => says(`rules[${i}].${field}`)}
                  onOpen={() => setOpen(open === i ? undefined : i)}
                  onRule={(next) => setRules(terms.rules.map((x, j) => (j === i ? next : x)))}
                  onMove={(by) => {
                    const rules = [...terms.rules];
                    rules.splice(i + by, 0, ...rules.splice(i, 1));
                    setRules(rules);
                    if (open === i) setOpen(i + by);
                  }}
                  onEnd={() => {
                    setRules(terms.rules.filter((_, j) => j !== i));
                    setOpen(undefined);
                  }}
                />
              ))}
            </Stack>
            {may && (
              <Button
                size="sm"
                variant="outline"
                colorPalette="gray"
                alignSelf="start"
                onClick={() => {
                  const last = terms.rules.at(-1);
                  const at = last && !last.filter ? terms.rules.length - 1 : terms.rules.length;
                  const rules = [...terms.rules];
                  rules.splice(at, 0, {
                    name: terms.rules.length === 0 ? 'Everything else' : '',
                    length: '1 year',
                  });
                  setRules(rules);
                  setOpen(at);
                }}
              >
                Add a rule
              </Button>
            )}
          </Stack>
        </Panel>
        <Settings terms={terms} may={may} says={says} onTerms={setDraft} />
        <Caretakers terms={terms} may={may} says={says} onTerms={setDraft} />
      </Stack>
      <Stack gap="5" position={{ lg: 'sticky' }} top="4">
        {dirty && (
          <Panel title="What this would do">
            <Stack gap="4" aria-live="polite">
              {problems.length === 0 && <Trouble error={preview.error ?? save.error} />}
              {problems.map((x) => (
                <Trouble key={x.field + x.says} error={x.says} />
              ))}
              {!p && !preview.error && <Loading what="every group's date" />}
              {p && p.problems.length === 0 && <Effect preview={p} />}
              <HStack>
                <Button
                  colorPalette="ivy"
                  disabled={!p || p.problems.length > 0 || (dirty && began !== saved.version)}
                  loading={save.isPending}
                  onClick={() => save.mutate()}
                >
                  Put these terms in force
                </Button>
                <Button variant="ghost" colorPalette="gray" onClick={drop}>
                  Drop the draft
                </Button>
              </HStack>
            </Stack>
          </Panel>
        )}
        <Try terms={dirty ? (JSON.parse(body) as Saved) : undefined} />
      </Stack>
    </Grid>
  );
}

function Rule(props: {
  rule: TermRule;
  usual: number[];
  may: boolean;
  first: boolean;
  last: boolean;
  open: boolean;
  holds: number | undefined;
  will: number | undefined;
  warning: Fault | undefined;
  says: (field: string) => string | undefined;
  onOpen: () => void;
  onRule: (r: TermRule) => void;
  onMove: (by: number) => void;
  onEnd: () => void;
}) {
  const { rule: r, onRule } = props;
  const wrong = ['name', 'filter', 'length', 'notices', 'renewed_by'].some((f) => props.says(f));
  const n = props.will ?? props.holds;
  return (
    <Box as="li" borderWidth="1px" borderRadius="md" p="3" bg="bg">
      <HStack justify="space-between" align="start" gap="3">
        <Box minW="0">
          <Text>
            <b>{r.name || 'A new rule'}</b>
            {': '}
            {r.length === 'never'
              ? 'no end'
              : /^\d{4}-/.test(r.length)
                ? `until ${date(r.length)}, each year`
                : r.length}
            {n !== undefined && (
              <>
                {' · '}
                <Link to={`/groups?filter=${encodeURIComponent(`term_rule eq ${JSON.stringify(r.name)}`)}`}>
                  <u>{plural(n, 'group')}</u>
                </Link>
                {props.holds !== undefined && props.will !== undefined && props.will !== props.holds && (
                  <Text as="span" className="warn">
                    {' '}
                    (now {props.holds})
                  </Text>
                )}
              </>
            )}
          </Text>
          <Text fontSize="sm" color="fg.muted">
            {r.filter ? (
              <>
                where <code>{r.filter}</code>
              </>
            ) : (
              'all groups'
            )}
            {r.length !== 'never' && ` · told ${listed(r.notices?.length ? r.notices : props.usual)} days before`}
            {(r.renewed_by ?? []).length > 0 &&
              ` · renewed when ${(r.renewed_by ?? []).map((x) => (x === 'post' ? 'somebody writes to it' : 'somebody comes in')).join(' or ')}`}
          </Text>
          {props.warning && (
            <Text fontSize="sm" {...(props.warning.mend ? { className: 'warn' } : { color: 'fg.muted' })}>
              {props.warning.says} {props.warning.mend}
            </Text>
          )}
          {wrong && !props.open && (
            <Text fontSize="sm" className="warn">
              Something in it is wrong: open it.
            </Text>
          )}
        </Box>
        {props.may && (
          <HStack gap="0" flexShrink="0">
            <Button
              size="2xs"
              variant="ghost"
              colorPalette="gray"
              aria-label={`Move ${r.name} up`}
              disabled={props.first}
              onClick={() => props.onMove(-1)}
            >
              ↑
            </Button>
            <Button
              size="2xs"
              variant="ghost"
              colorPalette="gray"
              aria-label={`Move ${r.name} down`}
              disabled={props.last}
              onClick={() => props.onMove(1)}
            >
              ↓
            </Button>
            <Button size="2xs" variant="ghost" colorPalette="gray" aria-expanded={props.open} onClick={props.onOpen}>
              {props.open ? 'Close' : 'Change'}
            </Button>
            <Button
              size="2xs"
              variant="ghost"
              colorPalette="gray"
              aria-label={`End the rule ${r.name}`}
              onClick={props.onEnd}
            >
              End
            </Button>
          </HStack>
        )}
      </HStack>
      {props.open && (
        <Stack gap="3" mt="3" borderTopWidth="1px" pt="3">
          <Grid templateColumns={{ base: '1fr', md: '1fr 1fr' }} gap="3">
            <Line
              label="Name"
              name="name"
              value={r.name}
              wrong={props.says('name')}
              onChange={(name) => onRule({ ...r, name })}
            />
            <Line
              label="Length"
              name="length"
              value={r.length}
              help="180 days, 26 weeks, 6 months, 2 years, a day such as 2027-09-30, or never"
              wrong={props.says('length')}
              onChange={(length) => onRule({ ...r, length })}
            />
          </Grid>
          <Field.Root invalid={!!props.says('filter')}>
            <Field.Label>For groups where</Field.Label>
            <Box w="full">
              <ExpressionField
                label="For groups where"
                list="groups"
                rows={2}
                placeholder="All groups, or such as: external gt 0"
                value={r.filter ?? ''}
                onChange={(filter) => onRule({ ...r, filter })}
              />
            </Box>
            <Field.ErrorText>{props.says('filter')}</Field.ErrorText>
          </Field.Root>
          <Line
            label="Notices of its own, days before"
            name="own_notices"
            value={listed(r.notices)}
            help={`Left out: ${listed(props.usual)}`}
            wrong={props.says('notices')}
            onChange={(text) => onRule({ ...r, notices: read(text) })}
          />
          <Stack gap="1" fontSize="sm">
            <Text fontWeight="600">Beside its owners and administrators, it is renewed when</Text>
            {(['post', 'join'] as const).map((x) => (
              <HStack as="label" key={x}>
                <input
                  type="checkbox"
                  checked={(r.renewed_by ?? []).includes(x)}
                  onChange={(e) =>
                    onRule({
                      ...r,
                      renewed_by: e.target.checked
                        ? [...(r.renewed_by ?? []), x]
                        : (r.renewed_by ?? []).filter((y) => y !== x),
                    })
                  }
                />
                {x === 'post' ? 'somebody writes to it' : 'somebody comes in by themselves, by asking or invited'}
              </HStack>
            ))}
          </Stack>
        </Stack>
      )}
    </Box>
  );
}

/** Line is a labelled field whose text is kept as it is typed. */
function Line(props: {
  label: string;
  name: string;
  value: string;
  help?: string;
  wrong?: string | undefined;
  width?: string;
  disabled?: boolean;
  onChange: (text: string) => void;
}) {
  const [typed, setTyped] = useState(props.value);
  const [was, setWas] = useState(props.value);
  if (was !== props.value && read(typed).join() !== read(props.value).join()) setTyped(props.value);
  if (was !== props.value) setWas(props.value);
  return (
    <Field.Root invalid={!!props.wrong} {...(props.width ? { w: props.width } : {})}>
      <Field.Label>{props.label}</Field.Label>
      <Input
        size="sm"
        name={props.name}
        value={typed}
        disabled={props.disabled ?? false}
        onChange={(e) => {
          setTyped(e.target.value);
          props.onChange(e.target.value);
        }}
      />
      {props.help && <Field.HelperText>{props.help}</Field.HelperText>}
      <Field.ErrorText>{props.wrong}</Field.ErrorText>
    </Field.Root>
  );
}

function Settings(props: {
  terms: Saved;
  may: boolean;
  says: (field: string) => string | undefined;
  onTerms: (t: Saved) => void;
}) {
  const { terms: t, may, says, onTerms } = props;
  return (
    <Panel title="For all that expire">
      <HStack gap="4" align="start" wrap="wrap">
        <Line
          label="Notices, days before"
          name="notices"
          width="12rem"
          disabled={!may}
          value={listed(t.notices)}
          help="Where a rule has none of its own."
          wrong={says('notices')}
          onChange={(text) => onTerms({ ...t, notices: read(text) })}
        />
        <Line
          label="Restorable, days"
          name="recovery_days"
          width="10rem"
          disabled={!may}
          value={String(t.recovery_days)}
          help="After a group ended."
          wrong={says('recovery_days')}
          onChange={(text) => onTerms({ ...t, recovery_days: number(text) })}
        />
        <Line
          label="Addresses kept, days"
          name="address_days"
          width="11rem"
          disabled={!may}
          value={String(t.address_days)}
          help="After a group is gone."
          wrong={says('address_days')}
          onChange={(text) => onTerms({ ...t, address_days: number(text) })}
        />
        <Line
          label="Time zone"
          name="time_zone"
          width="13rem"
          disabled={!may}
          value={t.time_zone}
          help="Days begin at its midnight."
          wrong={says('time_zone')}
          onChange={(time_zone) => onTerms({ ...t, time_zone })}
        />
      </HStack>
      <HStack as="label" mt="3" fontSize="sm">
        <input
          type="checkbox"
          disabled={!may}
          checked={t.managers}
          onChange={(e) => onTerms({ ...t, managers: e.target.checked })}
        />
        The last notice goes to the owners’ managers, too
      </HStack>
    </Panel>
  );
}

const states = {
  reads: '',
  asked: 'was asked, and has not agreed yet',
  nobody: 'is asked when this is saved',
} as const;

function Caretakers(props: {
  terms: Saved;
  may: boolean;
  says: (field: string) => string | undefined;
  onTerms: (t: Saved) => void;
}) {
  const { terms: t, may, says, onTerms } = props;
  const set = (caretakers: Saved['caretakers']) => onTerms({ ...t, caretakers });
  return (
    <Panel title="Caretakers">
      <Stack gap="3">
        <Text fontSize="sm" color="fg.muted">
          Who is told about groups without owners: the first that names the group. Somebody of the workspace, a group,
          or an address outside, which is asked first.{' '}
          {t.caretakers.length === 0 && 'There is none: all administrators are told.'}
        </Text>
        {t.caretakers.map((c, i) => {
          const put = (next: Partial<typeof c>) => set(t.caretakers.map((x, j) => (j === i ? { ...x, ...next } : x)));
          return (
            <HStack key={i} align="start" wrap="wrap" gap="3">
              <Line
                label={`Caretaker ${i + 1}`}
                name="caretaker"
                width="20rem"
                disabled={!may}
                value={c.address}
                help={c.state ? states[c.state] : ''}
                wrong={says(`caretakers[${i}].address`)}
                onChange={(address) => put({ address })}
              />
              <Line
                label="For groups where"
                name="caretaker_filter"
                width="18rem"
                disabled={!may}
                value={c.filter ?? ''}
                help={c.filter ? '' : 'All groups'}
                wrong={says(`caretakers[${i}].filter`)}
                onChange={(filter) => put({ filter })}
              />
              {may && (
                <Button
                  size="2xs"
                  variant="ghost"
                  colorPalette="gray"
                  mt="7"
                  aria-label={`End ${c.address} as a caretaker`}
                  onClick={() => set(t.caretakers.filter((_, j) => j !== i))}
                >
                  End
                </Button>
              )}
            </HStack>
          );
        })}
        {may && (
          <Button
            size="sm"
            variant="outline"
            colorPalette="gray"
            alignSelf="start"
            onClick={() => {
              const last = t.caretakers.at(-1);
              const at = last && !last.filter ? t.caretakers.length - 1 : t.caretakers.length;
              const next = [...t.caretakers];
              next.splice(at, 0, { address: '' });
              set(next);
            }}
          >
            Name a caretaker
          </Button>
        )}
      </Stack>
    </Panel>
  );
}

/** Effect is what a change of the terms would do, as numbers, chart and list. */
function Effect({ preview: p }: { preview: Preview }) {
  const points = p.series ?? [];
  const parts = p.effects.filter((e) => e.says && !e.field.startsWith('rule:'));
  return (
    <Stack gap="3">
      <Text fontSize="lg">{p.says}</Text>
      <Stack as="ul" gap="1" pl="4" listStyleType="disc" fontSize="sm">
        {parts.map((e) => (
          <li key={e.field}>{e.says}</li>
        ))}
      </Stack>
      {p.warnings
        .filter((w) => !w.field.startsWith('rules['))
        .map((w) => (
          <Text key={w.says} fontSize="sm">
            <span className="warn">{w.says}</span> {w.mend}
          </Text>
        ))}
      {points.some((x) => x.was + x.will > 0) && (
        <Box>
          <Text fontSize="sm" color="fg.muted" mb="1">
            Groups that expire: as it would be (filled), as it is (dashed)
          </Text>
          <Columns
            label="Groups that expire, before and after"
            height="7rem"
            columns={columnsOf(
              points,
              (x) => x.will,
              (x) => ({
                was: x.was,
                says: `${spanOf(x)}: ${plural(x.will, 'group')}, now ${x.was}; ${plural(x.letters, 'letter')}`,
              }),
            )}
          />
        </Box>
      )}
      {p.sample.length > 0 && (
        <Box maxH="20rem" overflowY="auto" tabIndex={0} role="region" aria-label="Groups whose date changes">
          <table className="list">
            <thead>
              <tr>
                <th scope="col">Group</th>
                <th scope="col">Now</th>
                <th scope="col">Would be</th>
                <th scope="col">By</th>
              </tr>
            </thead>
            <tbody>
              {p.sample.map((m) => (
                <tr key={m.address}>
                  <td>{m.name}</td>
                  <td>{m.from ? inWords(m.from) : 'never'}</td>
                  <td>{m.to ? inWords(m.to) : 'never'}</td>
                  <td>{m.says}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {p.total > p.sample.length && (
            <Text fontSize="sm" color="fg.muted" mt="1">
              and {(p.total - p.sample.length).toLocaleString('en-GB')} more
            </Text>
          )}
        </Box>
      )}
    </Stack>
  );
}

/** Try says which rule takes a group, and why. */
function Try({ terms }: { terms: Saved | undefined }) {
  const [group, setGroup] = useState('');
  const body = useSettled(JSON.stringify({ group, ...(terms ? { terms } : {}) }), 250);
  const tried = useQuery({
    queryKey: ['life', 'terms', 'trial', body],
    enabled: group !== '' && (JSON.parse(body) as { group: string }).group === group,
    queryFn: () => ask(api.POST('/api/v1/terms/trial', { body: JSON.parse(body) as { group: string } })),
  });
  return (
    <Panel title="Which rule takes a group">
      <Stack gap="3">
        <GroupField onPick={setGroup} label="Group to try" />
        {group === '' && (
          <Text fontSize="sm" color="fg.muted">
            {terms ? 'By the draft. ' : ''}Pick a group to see which rule takes it, and why.
          </Text>
        )}
        {group !== '' && (
          <>
            <Trouble error={tried.error} />
            {tried.data && (
              <Stack gap="2" aria-live="polite">
                <Text fontWeight="600">{tried.data.says}</Text>
                <Stack as="ol" gap="1" listStyleType="none" fontSize="sm">
                  {tried.data.steps.map((s) => (
                    <Box as="li" key={s.rule}>
                      <Text fontWeight={s.takes ? '600' : '400'}>
                        {s.rule} {s.takes ? 'takes it' : s.names ? 'names it, too late' : 'does not name it'}
                      </Text>
                      <Text color="fg.muted">{s.why.join(' ')}</Text>
                    </Box>
                  ))}
                </Stack>
              </Stack>
            )}
          </>
        )}
      </Stack>
    </Panel>
  );
}
