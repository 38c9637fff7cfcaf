import { Box, Button, Field, HStack, NativeSelect, Stack, Text, Textarea } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { type ReactNode, useMemo, useState } from 'react';
import { api, ask, type PeopleList, type PolicySummary, type Preview } from '../api/client';
import { type Chosen, readFile } from '../lib/file';
import { useSettled } from '../lib/use-settled';
import { Trouble } from '../ui/parts';
import { GroupField } from './group-field';

const kinds = [
  ['text', 'Paste or type'],
  ['file', 'A file'],
  ['of', 'People of a group'],
  ['everyone', 'Everyone'],
] as const;

const statusWords: Record<string, string> = {
  new: 'can be added',
  external: 'external',
  group: 'a group, to be nested',
  asked: 'its owners are asked first',
  already: 'in it already',
  repeated: 'named twice',
  unknown: 'nobody has it',
  ambiguous: 'several people',
  departed: 'has left',
  barred: 'barred',
  refused: 'not possible',
};

/** replaced puts an address in the place of what a line of pasted text names. */
const replaced = (text: string, given: string, address: string) =>
  text.includes(given) ? text.replace(given, address) : text;

/**
 * Many takes a list of people in one of four ways and shows who each line is before anything
 * happens. What is done with the list, the caller says by its actions.
 */
export function Many(props: {
  group?: string; // the group they would be in; none for one that is yet to be made
  externals?: PolicySummary['externals'];
  everyone: boolean;
  actions: (list: PeopleList, read: Preview) => ReactNode;
}) {
  const [kind, setKind] = useState<(typeof kinds)[number][0]>('text');
  const [text, setText] = useState('');
  const [file, setFile] = useState<Chosen | null>(null);
  const [of, setOf] = useState('');
  const [role, setRole] = useState<NonNullable<PeopleList['role']>>('member');
  const [columns, setColumns] = useState<Record<string, string>>({});
  const settled = useSettled(text, 300);
  const list = useMemo<PeopleList | null>(() => {
    const more = { role, ...(Object.keys(columns).length ? { columns } : {}) };
    if (kind === 'text' && settled.trim()) return { text: settled, ...more };
    if (kind === 'file' && file) return { file: file.data, ...more };
    if (kind === 'of' && of) return { people_of: of, role };
    if (kind === 'everyone') return { everyone: true, role };
    return null;
  }, [kind, settled, file, of, role, columns]);
  const read = useQuery({
    queryKey: ['member', 'list', props.group, props.externals, list],
    enabled: list !== null,
    queryFn: () =>
      ask(
        api.POST('/api/v1/people-lists', {
          body: {
            ...list,
            ...(props.group ? { group: props.group } : {}),
            ...(props.externals ? { externals: props.externals } : {}),
          },
        }),
      ),
  });
  return (
    <Stack gap="3">
      <HStack wrap="wrap" gap="1" role="group" aria-label="How the people are named">
        {kinds
          .filter(([k]) => k !== 'everyone' || props.everyone)
          .map(([k, label]) => (
            <Button
              key={k}
              size="xs"
              variant={kind === k ? 'solid' : 'outline'}
              colorPalette={kind === k ? 'ivy' : 'gray'}
              aria-pressed={kind === k}
              onClick={() => setKind(k)}
            >
              {label}
            </Button>
          ))}
      </HStack>
      {kind === 'text' && (
        <Textarea
          aria-label="People to add, pasted"
          name="many"
          rows={4}
          placeholder={'Tove Alder <tove.alder@merrowline.example>, bram.tolley@merrowline.example\nOda Fenn'}
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
      )}
      {kind === 'file' && (
        <Field.Root>
          <Field.Label>CSV or text</Field.Label>
          <input type="file" accept=".csv,.txt,.tsv,text/*" onChange={(e) => void readFile(e.target).then(setFile)} />
          <Field.HelperText>
            The first line may hold headings, such as Name, E-mail, Role. Commas, semicolons or tabs.
          </Field.HelperText>
        </Field.Root>
      )}
      {kind === 'of' && <GroupField onPick={setOf} />}
      {kind === 'everyone' && <Text fontSize="sm">Everyone who is in the workspace today.</Text>}
      <HStack fontSize="sm" gap="2">
        <Text>as</Text>
        <NativeSelect.Root size="xs" w="8rem">
          <NativeSelect.Field
            aria-label="Role of the people to add"
            value={role}
            onChange={(e) => setRole(e.target.value as typeof role)}
          >
            <option value="member">member</option>
            <option value="moderator">moderator</option>
            <option value="owner">owner</option>
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
        <Text color="fg.muted">where the list does not say</Text>
      </HStack>
      <Trouble error={read.error} />
      {list && read.data && (
        <>
          <Found
            read={read.data}
            group={props.group}
            onColumn={(heading, stands) => setColumns({ ...columns, [heading]: stands })}
            onChoose={(given, address) => setText(replaced(text, given, address))}
            editable={kind === 'text'}
          />
          {props.actions(list, read.data)}
        </>
      )}
    </Stack>
  );
}

/** Found shows who each line of a list is, with counts, those to look at first. */
function Found(props: {
  read: Preview;
  group: string | undefined;
  editable: boolean;
  onColumn: (heading: string, stands: string) => void;
  onChoose: (given: string, address: string) => void;
}) {
  const { read: r } = props;
  const table = r.list?.columns ?? [];
  const counts = Object.entries(r.counts ?? {}).map(([s, n]) => `${statusWords[s] ?? s}: ${n}`);
  return (
    <Stack gap="2">
      {table.length > 0 && (
        <HStack wrap="wrap" fontSize="sm" gap="3">
          <Text color="fg.muted">
            A table in {r.list?.encoding}, separated by {r.list?.delimiter === '\t' ? 'tabs' : `“${r.list?.delimiter}”`}
            :
          </Text>
          {table.map((c) => (
            <label key={c.heading}>
              {c.heading} is{' '}
              <select value={c.stands_for} onChange={(e) => props.onColumn(c.heading, e.target.value)}>
                <option value="">left out</option>
                <option value="address">the address</option>
                <option value="name">the name</option>
                <option value="role">the role</option>
                {!['', 'address', 'name', 'role'].includes(c.stands_for) && (
                  <option value={c.stands_for}>{c.stands_for}</option>
                )}
              </select>
            </label>
          ))}
        </HStack>
      )}
      <Text fontSize="sm" aria-live="polite" data-testid="list-counts">
        <b>{r.says}</b> {counts.join(' · ')}
      </Text>
      {r.sample.length > 0 && (
        <Box
          maxH="18rem"
          overflow="auto"
          borderWidth="1px"
          borderRadius="md"
          tabIndex={0}
          role="region"
          aria-label="Who the lines are"
        >
          <table className="list" style={{ minWidth: '40rem' }}>
            <thead>
              <tr>
                <th scope="col" style={{ width: '34%' }}>
                  Given
                </th>
                <th scope="col" style={{ width: '24%' }}>
                  Who
                </th>
                <th scope="col" style={{ width: '42%' }}>
                  Is
                </th>
              </tr>
            </thead>
            <tbody>
              {r.sample.slice(0, 200).map((l, i) => (
                <tr key={i}>
                  <td title={l.given}>{l.given}</td>
                  <td title={l.address ?? ''}>
                    {l.name}
                    {l.address && l.address !== l.given && <span className="under">{l.address}</span>}
                  </td>
                  <td style={{ whiteSpace: 'normal' }}>
                    <span className={l.outcome === 'refused' ? 'warn' : ''}>
                      {statusWords[l.status ?? ''] ?? l.outcome}
                    </span>
                    {l.says && (
                      <span className="under" style={{ whiteSpace: 'normal' }}>
                        {l.says}
                      </span>
                    )}
                    {props.group && l.outcome === 'refused' && (l.status === 'external' || l.status === 'barred') && (
                      <Link to={`/groups/${props.group}/${l.status === 'barred' ? 'ways-in' : 'reach'}`}>
                        <u>{l.status === 'barred' ? 'Lift the bar' : 'Let external members in'}</u>
                      </Link>
                    )}
                    {props.editable &&
                      l.choices?.map((c) => (
                        <Button
                          key={c.address}
                          size="2xs"
                          variant="outline"
                          colorPalette="ivy"
                          mr="1"
                          mt="1"
                          onClick={() => props.onChoose(l.given ?? '', c.address)}
                        >
                          {c.name}, {c.address.split('@')[0]}
                        </Button>
                      ))}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Box>
      )}
    </Stack>
  );
}
