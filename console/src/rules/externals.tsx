import { Box, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useWatch } from 'react-hook-form';
import { Link } from 'react-router';
import { api, ask, type ExternalRules as Saved } from '../api/client';
import { useDraft } from '../lib/use-draft';
import { useSettled } from '../lib/use-settled';
import { useMe } from '../session/me';
import { Choice, Loading, Moved, Panel, Saving, Trouble } from '../ui/parts';
import { Tags } from '../ui/tags';
import { toaster } from '../ui/toaster';

/** ExternalRules is what the workspace says of external members, for all its groups. */
export function ExternalRules() {
  const rules = useQuery({
    queryKey: ['naming', 'external-rules'],
    queryFn: () => ask(api.GET('/api/v1/external-rules')),
  });
  if (rules.error) return <Trouble error={rules.error} retry={() => void rules.refetch()} />;
  return rules.data ? <Draft saved={rules.data} /> : <Loading what="what holds for external members" />;
}

type Fields = Pick<Saved, 'allowed' | 'only_domains' | 'refused_domains' | 'by_letter' | 'days'>;

function Draft({ saved }: { saved: Saved }) {
  const may = useMe().may.includes('change_external_rules');
  const { allowed, only_domains, refused_domains, by_letter, days } = saved;
  const draft = useDraft<Fields, Saved>({
    saved: { allowed, only_domains, refused_domains, by_letter, days },
    version: saved.version ?? 0,
    touches: ['naming', 'member', 'me'],
    save: (body, tag) => ask(api.PUT('/api/v1/external-rules', { body, params: { header: { 'If-Match': tag } } })),
    onSaved: () => toaster.create({ type: 'success', title: 'What holds for external members is changed' }),
  });
  const v = useWatch({ control: draft.form.control }) as Fields;
  const settled = useSettled(JSON.stringify(v), 250);
  const look = useQuery({
    queryKey: ['naming', 'external-rules', 'look', settled],
    enabled: may && draft.dirty,
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.POST('/api/v1/external-rules/preview', { body: JSON.parse(settled) as Saved })),
  });
  const set = <F extends keyof Fields>(field: F, value: Fields[F]) =>
    draft.form.setValue(field, value as never, { shouldDirty: true });
  return (
    <Panel title="External members">
      <Stack gap="4">
        <Moved draft={draft} />
        <Choice
          label="People from outside in groups"
          value={v.allowed ? 'yes' : 'no'}
          disabled={!may}
          choices={[
            ['yes', 'Where a group takes them'],
            ['no', 'In no group'],
          ]}
          onChange={(x) => set('allowed', x === 'yes')}
        />
        {v.allowed && (
          <>
            <Tags
              label="Only from these domains"
              placeholder="gannetport.example, then Enter"
              help="Each with all below it. Empty: from every domain."
              list={v.only_domains}
              onChange={(x) => may && set('only_domains', x)}
            />
            <Tags
              label="Never from these"
              placeholder="lucky-draw.example, then Enter"
              list={v.refused_domains}
              onChange={(x) => may && set('refused_domains', x)}
            />
            <Choice
              label="How they come in"
              value={v.by_letter ? 'letter' : 'once'}
              disabled={!may}
              choices={[
                ['once', 'At once, when somebody adds them'],
                ['letter', 'When they have agreed by a letter'],
              ]}
              onChange={(x) => set('by_letter', x === 'letter')}
            />
            <Box as="label" fontSize="sm">
              <Text fontWeight="600">For how many days, before somebody prolongs it</Text>
              <HStack mt="1">
                <Input
                  size="sm"
                  type="number"
                  w="6rem"
                  min={0}
                  max={3650}
                  readOnly={!may}
                  value={v.days}
                  onChange={(e) => set('days', Math.max(0, Math.trunc(e.target.valueAsNumber || 0)))}
                />
                <Text color="fg.muted">
                  {v.days === 0 ? '0: for good' : 'days; they and the owners are told before'}
                </Text>
              </HStack>
            </Box>
          </>
        )}
        {draft.dirty && look.data && (
          <Text fontSize="sm" aria-live="polite">
            {look.data.says}
          </Text>
        )}
        <Trouble error={draft.error ?? look.error} />
        {may && <Saving draft={draft} label="Have it so" />}
        <Link to="/people/external">
          <u>All external members</u>
        </Link>
      </Stack>
    </Panel>
  );
}
