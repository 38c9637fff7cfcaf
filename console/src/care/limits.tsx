import { Box, Button, HStack, Input, SimpleGrid, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask, Refusal, type ReviewLimits } from '../api/client';
import { useChange } from '../lib/use-change';
import { useSettled } from '../lib/use-settled';
import { useMe } from '../session/me';
import { useFindingKinds } from '../shared/findings';
import { Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';

const limits = [
  ['quiet_days', 'Quiet', 'days without a post'],
  ['unused_days', 'Never used', 'days after it was made'],
  ['waiting_days', 'Something waits too long', 'days'],
  ['alias_days', 'A further address that nobody uses', 'days without mail'],
  ['same_people', 'Groups are compared from', 'people on'],
  ['same_percent', 'Nearly the same people', 'percent in common'],
  ['sole_groups', 'Alone the owner of many', 'groups'],
] as const;

/** Limits are from when on something is found, and what is not looked for. */
export function Limits() {
  const saved = useQuery({ queryKey: ['review', 'limits'], queryFn: () => ask(api.GET('/api/v1/review-limits')) });
  const [open, setOpen] = useState(false);
  if (!saved.data) return <Trouble error={saved.error} />;
  return (
    <Panel
      title="From when on something counts"
      side={
        <Button size="xs" variant="outline" colorPalette="gray" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? 'Close' : 'Limits…'}
        </Button>
      }
    >
      {open ? (
        <Editor key={saved.data.version} saved={saved.data} onDone={() => setOpen(false)} />
      ) : (
        <Text fontSize="sm" color="fg.muted">
          {limits.map(([name, title, unit]) => `${title}: ${saved.data[name]} ${unit}`).join(' · ')}
        </Text>
      )}
    </Panel>
  );
}

function Editor({ saved, onDone }: { saved: ReviewLimits; onDone: () => void }) {
  const may = useMe().may.includes('change_review');
  const kinds = useFindingKinds().data?.items ?? [];
  const [draft, setDraft] = useState(saved);
  const { version, ...rest } = draft;
  const body = JSON.stringify(rest);
  const asked = useSettled(body, 300);
  const dirty = body !== JSON.stringify({ ...saved, version: undefined });
  const preview = useQuery({
    queryKey: ['review', 'limits', version, asked],
    enabled: dirty && asked === body,
    queryFn: () => ask(api.POST('/api/v1/review-limits/preview', { body: JSON.parse(asked) as ReviewLimits })),
  });
  const save = useChange(
    ['review', 'group'],
    () => ask(api.PUT('/api/v1/review-limits', { params: { header: { 'If-Match': `"${version}"` } }, body: rest })),
    {
      onSuccess: () => {
        toaster.create({ type: 'success', title: 'The limits are in force' });
        onDone();
      },
    },
  );
  const error = preview.error ?? save.error;
  const says = (field: string) =>
    error instanceof Refusal ? error.problems.find((p) => p.field === field)?.says : undefined;
  const p = dirty ? preview.data : undefined;
  return (
    <Stack gap="4" fontSize="sm">
      <SimpleGrid columns={{ base: 1, md: 2 }} gap="3">
        {limits.map(([name, title, unit]) => (
          <Box as="label" key={name}>
            <Text fontWeight="600">{title}</Text>
            <HStack>
              <Input
                size="sm"
                w="5.5rem"
                inputMode="numeric"
                disabled={!may}
                aria-invalid={says(name) !== undefined}
                value={draft[name]}
                onChange={(e) => setDraft({ ...draft, [name]: Number(e.target.value.replace(/\D/g, '')) })}
              />
              <Text color="fg.muted">{unit}</Text>
            </HStack>
            {says(name) && <Text className="warn">{says(name)}</Text>}
          </Box>
        ))}
      </SimpleGrid>
      <Box>
        <Text fontWeight="600" mb="1">
          What is looked for
        </Text>
        <SimpleGrid columns={{ base: 1, md: 3 }} gap="1">
          {kinds.map((k) => (
            <HStack as="label" key={k.kind}>
              <input
                type="checkbox"
                disabled={!may}
                checked={!draft.off?.includes(k.kind)}
                onChange={(e) =>
                  setDraft({
                    ...draft,
                    off: e.target.checked
                      ? (draft.off ?? []).filter((x) => x !== k.kind)
                      : [...(draft.off ?? []), k.kind],
                  })
                }
              />
              {k.title}
            </HStack>
          ))}
        </SimpleGrid>
      </Box>
      {p && (
        <Box aria-live="polite">
          <Text fontWeight="600">{p.says}</Text>
          {p.effects
            .filter((e) => kinds.some((k) => k.kind === e.field) && e.says)
            .map((e) => (
              <Text key={e.field}>
                {e.says}: {e.to} in place of {e.from}
              </Text>
            ))}
        </Box>
      )}
      <Trouble error={error instanceof Refusal && error.problems.length > 0 ? null : error} />
      {may && (
        <HStack>
          <Button size="sm" colorPalette="ivy" disabled={!p} loading={save.isPending} onClick={() => save.mutate()}>
            Put in force
          </Button>
          <Button size="sm" variant="ghost" colorPalette="gray" onClick={onDone}>
            Leave it
          </Button>
        </HStack>
      )}
    </Stack>
  );
}
