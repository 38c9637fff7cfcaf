import { Badge, Box, Button, Grid, Heading, HStack, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { useMutation, useQuery } from '@tanstack/react-query';
import { type ReactNode, useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { api, ask, type PersonDetails, Refusal } from '../api/client';
import { HistoryList } from '../history/list';
import { date, plural } from '../ui/dates';
import { fieldLabel, fields } from '../ui/fields';
import { Fact, Loading, Nothing, Panel, Trouble } from '../ui/parts';
import { PeoplePicker } from '../ui/people-picker';
import { toaster } from '../ui/toaster';

export default function PersonPage() {
  const { ref = '' } = useParams();
  const person = useQuery({
    queryKey: ['person', ref],
    queryFn: () => ask(api.GET('/api/v1/people/{ref}', { params: { path: { ref } } })),
  });
  if (person.error instanceof Refusal && person.error.status === 404) {
    return (
      <Nothing title={person.error.message}>
        <Link to="/people">All people</Link>
      </Nothing>
    );
  }
  if (person.error)
    return (
      <Box p="5">
        <Trouble error={person.error} retry={() => void person.refetch()} />
      </Box>
    );
  const p = person.data;
  if (!p) return <Loading what="the person" />;
  const may = p.may.includes('change_directory');
  return (
    <Box p={{ base: 3, md: 5 }} maxW="76rem" mx="auto">
      <Stack gap="1" mb="5">
        <HStack gap="3" align="baseline" wrap="wrap">
          <Heading as="h1" size="3xl">
            {p.name}
          </Heading>
          {p.workspace_role && <Badge colorPalette="ivy">{p.workspace_role}</Badge>}
          {p.external && <Badge colorPalette="brass">external</Badge>}
          {!p.active && <Badge colorPalette="brass">has left{p.departed_at && ` on ${date(p.departed_at)}`}</Badge>}
        </HStack>
        <Text color="fg.muted">
          <a href={`mailto:${p.address}`}>{p.address}</a>
        </Text>
      </Stack>
      <Grid templateColumns={{ base: 'minmax(0, 1fr)', lg: '3fr 2fr' }} gap="5" alignItems="start">
        <Stack gap="5">
          <Groups person={p} />
          {p.may.includes('read_workspace_history') && (
            <Box>
              <Heading as="h2" size="md" mb="2">
                What they did, and what was done to them
              </Heading>
              <HistoryList person={p.address} />
            </Box>
          )}
        </Stack>
        <Stack gap="5">
          <Entry key={p.version} person={p} may={may && !p.external} />
          {may && !p.external && p.active && <SignsIn person={p} />}
          {may && !p.external && (p.active ? <Departure person={p} /> : <Return person={p} />)}
        </Stack>
      </Grid>
    </Box>
  );
}

function Groups({ person: p }: { person: PersonDetails }) {
  return (
    <Panel title={p.groups.length === 1 ? 'In 1 group' : `In ${p.groups.length} groups`}>
      {p.groups.length === 0 ? (
        <Text color="fg.muted" fontSize="sm">
          In no group that you can see into.
        </Text>
      ) : (
        <Box overflowX="auto">
          <table className="list" style={{ minWidth: '32rem' }}>
            <thead>
              <tr>
                <th scope="col">Group</th>
                <th scope="col" style={{ width: '11rem' }}>
                  Role
                </th>
                <th scope="col" style={{ width: '7.5rem' }}>
                  Since
                </th>
              </tr>
            </thead>
            <tbody>
              {p.groups.map((g) => (
                <tr key={g.address}>
                  <td>
                    <Link className="name" to={`/groups/${g.address}`}>
                      {g.name}
                    </Link>
                    {g.ended && ' (ended)'}
                    <span className="under">{g.address}</span>
                  </td>
                  <td>
                    {g.last_owner ? <span className="warn">the only owner</span> : g.role}
                    {g.by_rule && <span className="under">by rule</span>}
                  </td>
                  <td>{date(g.since)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Box>
      )}
    </Panel>
  );
}

function Entry({ person: p, may }: { person: PersonDetails; may: boolean }) {
  const [draft, setDraft] = useState<Record<string, string> | null>(null);
  const [name, setName] = useState(p.name);
  const [role, setRole] = useState<string>(p.workspace_role ?? '');
  const save = useMutation({
    mutationFn: () =>
      ask(
        api.PATCH('/api/v1/people/{ref}', {
          params: { path: { ref: p.address }, header: { 'If-Match': `"${p.version}"` } },
          body: { name, attributes: draft ?? {}, workspace_role: role },
        }),
      ),
    onSuccess: () => setDraft(null),
  });
  const filled = Object.entries(p.attributes ?? {});
  return (
    <Panel
      title="Entry in the directory"
      side={
        may &&
        draft === null && (
          <Button size="xs" variant="outline" colorPalette="gray" onClick={() => setDraft({ ...p.attributes })}>
            Change
          </Button>
        )
      }
    >
      {draft === null ? (
        <Stack as="dl" gap="1">
          {filled.map(([k, v]) => (
            <Fact key={k} name={fieldLabel(k)}>
              {v}
            </Fact>
          ))}
          {filled.length === 0 && <Text color="fg.muted">Nothing is filled in.</Text>}
          <Fact name="Here since">{date(p.created_at)}</Fact>
        </Stack>
      ) : (
        <Stack gap="2">
          <EntryFields name={name} onName={setName} role={role} onRole={setRole} values={draft} onValues={setDraft} />
          <Trouble error={save.error} />
          <HStack>
            <Button size="sm" colorPalette="ivy" loading={save.isPending} onClick={() => save.mutate()}>
              Save
            </Button>
            <Button size="sm" variant="ghost" colorPalette="gray" onClick={() => setDraft(null)}>
              Leave it
            </Button>
          </HStack>
          <Text fontSize="sm" color="fg.muted">
            Groups with a rule take them in, or let them go, as soon as it is saved.
          </Text>
        </Stack>
      )}
    </Panel>
  );
}

function EntryFields(props: {
  name: string;
  onName: (v: string) => void;
  role: string;
  onRole: (v: string) => void;
  values: Record<string, string>;
  onValues: (v: Record<string, string>) => void;
}) {
  const [all, setAll] = useState(false);
  const shown = fields.filter(([f], i) => all || i < 6 || f === 'locality' || props.values[f]);
  const row = (label: string, input: ReactNode) => (
    <Box as="label" key={label} display="grid" gridTemplateColumns="9rem 1fr" alignItems="center" fontSize="sm">
      <span>{label}</span>
      {input}
    </Box>
  );
  return (
    <Stack gap="1.5">
      {row(
        'Name',
        <Input size="sm" name="person-name" value={props.name} onChange={(e) => props.onName(e.target.value)} />,
      )}
      {row(
        'In the workspace',
        <NativeSelect.Root size="sm">
          <NativeSelect.Field value={props.role} onChange={(e) => props.onRole(e.target.value)}>
            <option value="">no role</option>
            <option value="administrator">administrator</option>
            <option value="auditor">auditor</option>
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>,
      )}
      {shown.map(([f, label]) =>
        row(
          label,
          <Input
            size="sm"
            name={`field-${f}`}
            value={props.values[f] ?? ''}
            onChange={(e) => props.onValues({ ...props.values, [f]: e.target.value })}
          />,
        ),
      )}
      {!all && (
        <Button size="xs" variant="ghost" colorPalette="gray" alignSelf="start" onClick={() => setAll(true)}>
          All fields
        </Button>
      )}
    </Stack>
  );
}

function SignsIn({ person: p }: { person: PersonDetails }) {
  const send = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/people/{ref}/password-link', { params: { path: { ref: p.address } } })),
    onSuccess: () => toaster.create({ type: 'success', title: `A link is on its way to ${p.address}` }),
  });
  return (
    <Panel title="Signing in">
      <Stack gap="2">
        <Text fontSize="sm">
          {p.signs_in
            ? `${p.name} has a password. With a link by mail they choose a new one; until then the present one holds.`
            : `${p.name} has no password yet and can’t sign in. Mail reaches them all the same.`}
        </Text>
        <Trouble error={send.error} />
        <Button
          size="sm"
          alignSelf="start"
          variant="outline"
          colorPalette={p.signs_in ? 'gray' : 'ivy'}
          loading={send.isPending}
          onClick={() => send.mutate()}
        >
          Mail a link to choose a password
        </Button>
      </Stack>
    </Panel>
  );
}

function Departure({ person: p }: { person: PersonDetails }) {
  const [open, setOpen] = useState(false);
  const [heir, setHeir] = useState<{ address: string; name: string } | null>(null);
  const effect = useQuery({
    queryKey: ['departure', p.address],
    enabled: open,
    queryFn: () => ask(api.GET('/api/v1/people/{ref}/departure', { params: { path: { ref: p.address } } })),
  });
  const depart = useMutation({
    mutationFn: () =>
      ask(
        api.POST('/api/v1/people/{ref}/departure', {
          params: { path: { ref: p.address } },
          body: heir ? { hand_to: heir.address } : {},
        }),
      ),
    onSuccess: () => toaster.create({ type: 'success', title: `${p.name} has left` }),
  });
  const last = effect.data?.last_owner ?? [];
  return (
    <Panel title="Leaves the organisation">
      {!open ? (
        <Button size="sm" variant="outline" colorPalette="gray" onClick={() => setOpen(true)}>
          {p.name} leaves…
        </Button>
      ) : (
        <Stack gap="3">
          <Text fontSize="sm">{effect.data?.says}</Text>
          {last.length > 0 && (
            <>
              <Text fontSize="sm">
                <span className="warn">Nobody else owns</span> {last.map((g) => g.name).join(', ')}.
              </Text>
              {heir ? (
                <Button size="xs" alignSelf="start" variant="subtle" colorPalette="ivy" onClick={() => setHeir(null)}>
                  {heir.name} takes over ×
                </Button>
              ) : (
                <PeoplePicker
                  label="Who takes them over"
                  placeholder="Begin to type a name"
                  taken={[p.address]}
                  onPick={(address, name) => setHeir({ address, name })}
                />
              )}
            </>
          )}
          <Trouble error={effect.error ?? depart.error} />
          <HStack wrap="wrap">
            <Button
              size="sm"
              variant="outline"
              colorPalette="red"
              disabled={!effect.data}
              loading={depart.isPending}
              onClick={() => depart.mutate()}
            >
              {last.length > 0 && !heir
                ? `Leave ${plural(last.length, 'group')} without an owner, and mark it`
                : heir && last.length > 0
                  ? `Hand ${plural(last.length, 'group')} to ${heir.name}, and mark it`
                  : `Mark that ${p.name} has left`}
            </Button>
            <Button size="sm" variant="ghost" colorPalette="gray" onClick={() => setOpen(false)}>
              Not yet
            </Button>
          </HStack>
        </Stack>
      )}
    </Panel>
  );
}

function Return({ person: p }: { person: PersonDetails }) {
  const back = useMutation({
    mutationFn: () => ask(api.DELETE('/api/v1/people/{ref}/departure', { params: { path: { ref: p.address } } })),
    onSuccess: () => toaster.create({ type: 'success', title: `${p.name} is here again` }),
  });
  return (
    <Panel title="Is here again">
      <Stack gap="2">
        <Text fontSize="sm">They are in their groups as before, and groups with a rule take them in.</Text>
        <Trouble error={back.error} />
        <Button
          size="sm"
          alignSelf="start"
          variant="outline"
          colorPalette="ivy"
          loading={back.isPending}
          onClick={() => back.mutate()}
        >
          {p.name} returns
        </Button>
      </Stack>
    </Panel>
  );
}

/** NewPerson puts somebody into the directory. */
export function NewPerson() {
  const navigate = useNavigate();
  const [address, setAddress] = useState('');
  const [name, setName] = useState('');
  const [role, setRole] = useState('');
  const [values, setValues] = useState<Record<string, string>>({});
  const [link, setLink] = useState(true);
  const create = useMutation({
    mutationFn: () =>
      ask(
        api.POST('/api/v1/people', {
          body: { address, name, workspace_role: role, attributes: values, password_link: link },
        }),
      ),
    onSuccess: (p) => void navigate(`/people/${p.address}`),
  });
  return (
    <Box p={{ base: 3, md: 5 }} maxW="40rem" mx="auto">
      <Heading as="h1" size="2xl" mb="4">
        Add somebody
      </Heading>
      <Panel>
        <Stack gap="2">
          <Box as="label" display="grid" gridTemplateColumns="9rem 1fr" alignItems="center" fontSize="sm">
            <span>Address</span>
            <Input
              size="sm"
              name="person-address"
              placeholder="name@…"
              value={address}
              onChange={(e) => setAddress(e.target.value)}
              autoFocus
            />
          </Box>
          <EntryFields name={name} onName={setName} role={role} onRole={setRole} values={values} onValues={setValues} />
          <label style={{ fontSize: '0.9rem' }}>
            <input type="checkbox" checked={link} onChange={(e) => setLink(e.target.checked)} /> Mail them a link to
            choose a password, so that they can sign in
          </label>
          <Trouble error={create.error} />
          <Button
            alignSelf="start"
            colorPalette="ivy"
            disabled={address === '' || name === ''}
            loading={create.isPending}
            onClick={() => create.mutate()}
          >
            Add {name || 'somebody'}
          </Button>
        </Stack>
      </Panel>
    </Box>
  );
}
