import { Button, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, ask, type PersonDetails } from '../api/client';
import { useChange } from '../lib/use-change';
import { Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';

/** Erase takes what names somebody out of the directory and the history, on their lawful request. */
export function Erase({ person: p }: { person: PersonDetails }) {
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const [reason, setReason] = useState('');
  const path = { ref: p.id };
  const preview = useQuery({
    queryKey: ['person', 'erasure', p.id, p.version],
    enabled: open,
    queryFn: () =>
      ask(api.POST('/api/v1/people/{ref}/erasure/preview', { params: { path }, body: { reason: 'A look at it.' } })),
  });
  const erase = useChange(
    ['person', 'member', 'group', 'round', 'review'],
    () =>
      ask(
        api.POST('/api/v1/people/{ref}/erasure', {
          params: { path, header: { 'If-Match': `"${p.version}"` } },
          body: { reason },
        }),
      ),
    {
      onSuccess: (e) => {
        toaster.create({ type: 'success', title: e.says });
        void navigate(`/people/${e.address}`);
      },
    },
  );
  const problems = preview.data?.problems ?? [];
  return (
    <Panel title="Erase on their request">
      {!open ? (
        <Button size="sm" variant="outline" colorPalette="gray" onClick={() => setOpen(true)}>
          Erase what names them…
        </Button>
      ) : (
        <Stack gap="3" fontSize="sm">
          <Text>{preview.data?.says}</Text>
          {problems.map((x) => (
            <Trouble key={x.field} error={x.says} />
          ))}
          <Text color="fg.muted">
            What happened stays in the history, and it can still be verified. Messages that they wrote are forgotten
            with all others, after the time that is set.
          </Text>
          <Input
            size="sm"
            aria-label="On what ground"
            placeholder="On what ground: it is kept, so without their name"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          />
          <Trouble error={preview.error ?? erase.error} />
          <HStack>
            <Button
              size="sm"
              variant="outline"
              colorPalette="red"
              disabled={!preview.data || problems.length > 0 || !reason.trim()}
              loading={erase.isPending}
              onClick={() => erase.mutate()}
            >
              Erase {p.name} for good
            </Button>
            <Button size="sm" variant="ghost" colorPalette="gray" onClick={() => setOpen(false)}>
              Not now
            </Button>
          </HStack>
        </Stack>
      )}
    </Panel>
  );
}
