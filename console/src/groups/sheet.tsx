import { Box, Button, Heading, HStack, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { api, ask } from '../api/client';
import { inWords, plural } from '../lib/dates';
import { type Chosen, readFile } from '../lib/file';
import { useChange } from '../lib/use-change';
import { Loading, Panel, Trouble } from '../ui/parts';

/** Sheet gives many groups what an edited export says of each, showing first what that changes. */
export default function Sheet() {
  const navigate = useNavigate();
  const [file, setFile] = useState<Chosen | null>(null);
  const [leaveOut, setLeaveOut] = useState(false);
  const body = { file: file?.data ?? '', leave_out: leaveOut };
  const preview = useQuery({
    queryKey: ['bulk', 'sheet', file?.data],
    enabled: file !== null,
    queryFn: () => ask(api.POST('/api/v1/group-sheets/preview', { body })),
  });
  const begin = useChange(
    ['bulk', 'group', 'member', 'life', 'review'],
    () => ask(api.POST('/api/v1/group-sheets', { body })),
    { onSuccess: (b) => void navigate(`/changes/${b.id}`) },
  );
  const p = file ? preview.data : undefined;
  const refused = p?.counts?.refused ?? 0;
  return (
    <Box p={{ base: 3, md: 5 }} maxW="76rem" mx="auto">
      <Heading as="h1" size="2xl" mb="4">
        Change groups by a sheet
      </Heading>
      <Stack gap="5">
        <Panel>
          <Stack gap="3" fontSize="sm">
            <Text color="fg.muted">
              Export the groups of <Link to="/groups">a list</Link> as CSV, edit what is to change, and give the file
              here. Columns that you delete stay as they are; columns such as state and people can&apos;t be changed so.
              Nothing happens before you have seen the difference, and all of it can be undone as one.
            </Text>
            <input
              type="file"
              aria-label="Sheet of groups"
              accept=".csv,.tsv,.txt,text/*"
              onChange={(e) =>
                void readFile(e.target).then((f) => {
                  begin.reset();
                  setFile(f);
                })
              }
            />
            <Trouble error={preview.error ?? begin.error} />
          </Stack>
        </Panel>
        {file && preview.isFetching && <Loading what="the difference" />}
        {p && (
          <Panel title={`What ${file?.name} would do`}>
            <Stack gap="3">
              <Text fontWeight="600" aria-live="polite">
                {p.says}
              </Text>
              {p.sample.length > 0 && (
                <Box
                  maxH="30rem"
                  overflow="auto"
                  borderWidth="1px"
                  borderRadius="md"
                  tabIndex={0}
                  role="region"
                  aria-label="Lines of the sheet"
                >
                  <table className="list">
                    <thead>
                      <tr>
                        <th scope="col" className="num" style={{ width: '4rem' }}>
                          Line
                        </th>
                        <th scope="col" style={{ width: '18rem' }}>
                          Group
                        </th>
                        <th scope="col">What changes</th>
                      </tr>
                    </thead>
                    <tbody>
                      {p.sample.map((l) => (
                        <tr key={l.line}>
                          <td className="num">{l.line}</td>
                          <td>
                            {l.name ?? l.given}
                            <span className="under">{l.address}</span>
                          </td>
                          <td style={{ whiteSpace: 'normal' }}>
                            {l.outcome === 'refused' ? (
                              <span className="warn">{l.says}</span>
                            ) : (
                              l.changes?.map((c) => (
                                <div key={c.field}>
                                  <b>{c.field.replaceAll('_', ' ')}</b>: {inWords(c.from)} → {inWords(c.to)}
                                </div>
                              ))
                            )}
                          </td>
                        </tr>
                      ))}
                    </tbody>
                  </table>
                </Box>
              )}
              {refused > 0 && (
                <HStack as="label" fontSize="sm">
                  <input type="checkbox" checked={leaveOut} onChange={(e) => setLeaveOut(e.target.checked)} />
                  Leave out the {plural(refused, 'line')} that can&apos;t be done
                </HStack>
              )}
              <Button
                alignSelf="start"
                colorPalette="ivy"
                disabled={!p.ready || (refused > 0 && !leaveOut)}
                loading={begin.isPending}
                onClick={() => begin.mutate()}
              >
                Change {plural(p.ready ?? 0, 'group')}
              </Button>
            </Stack>
          </Panel>
        )}
      </Stack>
    </Box>
  );
}
