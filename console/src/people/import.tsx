import { Box, Button, Heading, HStack, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask } from '../api/client';
import { inWords, plural } from '../lib/dates';
import { type Chosen, readFile } from '../lib/file';
import { useChange } from '../lib/use-change';
import { useFields } from '../shared/fields';
import { Panel, Trouble } from '../ui/parts';

const outcomes: Record<string, string> = {
  new: 'new',
  changed: 'changes',
  returned: 'returns',
  departed: 'departs',
  wrong: "can't be taken",
};

/** ImportPeople makes the directory like a CSV file, showing first what that does. */
export default function ImportPeople() {
  const [file, setFile] = useState<Chosen | null>(null);
  const [columns, setColumns] = useState<Record<string, string>>({});
  const [sync, setSync] = useState(false);
  const [links, setLinks] = useState(false);
  const [force, setForce] = useState(false);
  const body = { file: file?.data ?? '', columns, sync, force, password_links: links };
  const known = useFields();
  const preview = useQuery({
    queryKey: ['person', 'import', body],
    enabled: file !== null,
    queryFn: () => ask(api.POST('/api/v1/people-imports/preview', { body })),
  });
  const doIt = useChange(
    ['person', 'group', 'member', 'rule', 'life'],
    () => ask(api.POST('/api/v1/people-imports', { body })),
    { onSuccess: () => setFile(null) },
  );
  const r = file ? preview.data : undefined;
  const refused = r?.problems ?? [];
  return (
    <Box p={{ base: 3, md: 5 }} maxW="70rem" mx="auto">
      <Heading as="h1" size="2xl" mb="4">
        Import people
      </Heading>
      <Stack gap="5">
        <Panel>
          <Stack gap="3">
            <Text fontSize="sm" color="fg.muted">
              A CSV file whose first line holds headings, one of them such as E-mail. Nothing happens before you have
              seen what would.
            </Text>
            <input
              type="file"
              aria-label="CSV file of people"
              accept=".csv,.tsv,.txt,text/*"
              onChange={(e) =>
                void readFile(e.target).then((f) => {
                  doIt.reset();
                  setColumns({});
                  setFile(f);
                })
              }
            />
            <label style={{ fontSize: '0.9rem' }}>
              <input type="checkbox" checked={sync} onChange={(e) => setSync(e.target.checked)} /> It is the whole
              directory: whoever is not in it departs
            </label>
            <label style={{ fontSize: '0.9rem' }}>
              <input type="checkbox" checked={links} onChange={(e) => setLinks(e.target.checked)} /> Mail those who are
              new a link to choose a password
            </label>
            <Trouble error={preview.error ?? doIt.error} />
            {doIt.data && (
              <Text fontWeight="600" aria-live="polite">
                Done. {doIt.data.says}
              </Text>
            )}
          </Stack>
        </Panel>
        {r && (
          <Panel title={`What ${file?.name} would do`}>
            <Stack gap="3">
              <HStack wrap="wrap" gap="3" fontSize="sm">
                {r.list?.columns?.map((c) => (
                  <label key={c.heading}>
                    <b>{c.heading}</b> is{' '}
                    <select
                      className="in-row"
                      value={c.stands_for}
                      onChange={(e) => setColumns({ ...columns, [c.heading]: e.target.value })}
                    >
                      <option value="">left out</option>
                      <option value="address">Address</option>
                      <option value="name">Name</option>
                      {known.map(([f, label]) => (
                        <option key={f} value={f}>
                          {label}
                        </option>
                      ))}
                    </select>
                  </label>
                ))}
              </HStack>
              <Text fontWeight="600" aria-live="polite">
                {r.says}
              </Text>
              {r.effects.length > 0 && (
                <Stack as="ul" gap="0" fontSize="sm" listStyleType="none" maxH="10rem" overflow="auto">
                  {r.effects.map((e) => (
                    <li key={e.field} className={e.field === 'owners' ? 'warn' : ''}>
                      {e.says}
                    </li>
                  ))}
                </Stack>
              )}
              {r.sample.length > 0 && (
                <Box
                  maxH="26rem"
                  overflow="auto"
                  borderWidth="1px"
                  borderRadius="md"
                  tabIndex={0}
                  role="region"
                  aria-label="Lines of the file"
                >
                  <table className="list" style={{ minWidth: '46rem' }}>
                    <thead>
                      <tr>
                        <th scope="col" style={{ width: '4rem' }}>
                          Line
                        </th>
                        <th scope="col" style={{ width: '34%' }}>
                          Who
                        </th>
                        <th scope="col" style={{ width: '9rem' }}>
                          Is
                        </th>
                        <th scope="col">Change</th>
                      </tr>
                    </thead>
                    <tbody>
                      {r.sample.slice(0, 300).map((l, i) => (
                        <tr key={i}>
                          <td>{l.line || ''}</td>
                          <td>
                            {l.name}
                            <span className="under">{l.address}</span>
                          </td>
                          <td className={l.outcome === 'wrong' || l.outcome === 'departed' ? 'warn' : ''}>
                            {outcomes[l.outcome] ?? l.outcome}
                          </td>
                          <td style={{ whiteSpace: 'normal' }}>
                            {[
                              l.says,
                              ...(l.changes ?? []).map((c) => `${c.label}: ${inWords(c.from)} → ${inWords(c.to)}`),
                            ]
                              .filter(Boolean)
                              .join('; ')}
                          </td>
                        </tr>
                      ))}
                    </tbody>
                  </table>
                </Box>
              )}
              {sync && (r.counts?.departed ?? 0) > 1 && (
                <label style={{ fontSize: '0.9rem' }}>
                  <input type="checkbox" checked={force} onChange={(e) => setForce(e.target.checked)} /> Do it although
                  many depart
                </label>
              )}
              {refused.map((x) => (
                <Trouble key={x.field} error={x.says} />
              ))}
              <Button
                alignSelf="start"
                colorPalette="ivy"
                disabled={!r.ready || refused.length > 0}
                loading={doIt.isPending}
                onClick={() => doIt.mutate()}
              >
                Import: {plural(r.ready ?? 0, 'change')}
              </Button>
            </Stack>
          </Panel>
        )}
      </Stack>
    </Box>
  );
}
