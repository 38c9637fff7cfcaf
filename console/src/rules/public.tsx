import { Stack, Text } from '@chakra-ui/react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useWatch } from 'react-hook-form';
import { Link } from 'react-router';
import { api, ask, type PublicPages as Saved } from '../api/client';
import { useDraft } from '../lib/use-draft';
import { useSettled } from '../lib/use-settled';
import { useMe } from '../session/me';
import { Choice, Loading, Moved, Panel, Saving, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';

/** PublicPages is what the workspace shows on the internet. */
export function PublicPages() {
  const rules = useQuery({
    queryKey: ['naming', 'public-pages'],
    queryFn: () => ask(api.GET('/api/v1/public-pages')),
  });
  if (rules.error) return <Trouble error={rules.error} retry={() => void rules.refetch()} />;
  return rules.data ? <Draft saved={rules.data} /> : <Loading what="what is shown on the internet" />;
}

type Fields = Pick<Saved, 'pages' | 'list'>;

function Draft({ saved }: { saved: Saved }) {
  const may = useMe().may.includes('change_public_pages');
  const { pages, list } = saved;
  const draft = useDraft<Fields, Saved>({
    saved: { pages, list },
    version: saved.version ?? 0,
    touches: ['naming', 'group'],
    save: (body, tag) => ask(api.PUT('/api/v1/public-pages', { body, params: { header: { 'If-Match': tag } } })),
    onSaved: () => toaster.create({ type: 'success', title: 'What is shown on the internet is changed' }),
  });
  const v = useWatch({ control: draft.form.control }) as Fields;
  const settled = useSettled(JSON.stringify(v), 150);
  const look = useQuery({
    queryKey: ['naming', 'public-pages', 'look', settled],
    enabled: may && draft.dirty,
    placeholderData: keepPreviousData,
    queryFn: () => ask(api.POST('/api/v1/public-pages/preview', { body: JSON.parse(settled) as Saved })),
  });
  const value = v.list ? 'list' : v.pages ? 'pages' : 'nothing';
  return (
    <Panel title="On the internet">
      <Stack gap="4">
        <Moved draft={draft} />
        <Choice
          label="What anyone sees of groups that anyone may find"
          value={value}
          disabled={!may}
          choices={[
            ['nothing', 'Nothing'],
            ['pages', 'A page of each, for whoever knows its address'],
            ['list', 'A page of each, and a list of them'],
          ]}
          onChange={(x) => {
            draft.form.setValue('pages', x !== 'nothing', { shouldDirty: true });
            draft.form.setValue('list', x === 'list', { shouldDirty: true });
          }}
        />
        {draft.dirty && look.data && (
          <Text fontSize="sm" aria-live="polite">
            {look.data.says}
          </Text>
        )}
        <Trouble error={draft.error ?? look.error} />
        {may && <Saving draft={draft} label="Have it so" />}
        {saved.list && (
          <Link to="/public">
            <u>The list, as anyone sees it</u>
          </Link>
        )}
      </Stack>
    </Panel>
  );
}
