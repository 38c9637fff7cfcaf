import { Button, Menu, Portal } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { Bookmark } from 'lucide-react';
import { lazy, Suspense, useState } from 'react';
import { api, ask } from '../api/client';
import { useChange } from '../lib/use-change';
import { toaster } from '../ui/toaster';
import type { Filtering, ListName } from './list-page';

const KeepView = lazy(() => import('./keep-view'));

const titles = { built_in: 'Asked for daily', administrators: 'Of all administrators', mine: 'Mine' } as const;

/** Views are filters, columns and orders of a list, kept under names. */
export function Views(props: {
  name: ListName;
  list: Filtering;
  columns: string[];
  onColumns?: ((columns: string[]) => void) | undefined;
}) {
  const { list } = props;
  const [keeping, setKeeping] = useState(false);
  const all = useQuery({
    queryKey: ['view', props.name],
    queryFn: () => ask(api.GET('/api/v1/views', { params: { query: { list: props.name } } })),
  });
  const filter = list.values('filter')[0] ?? '';
  const sort = list.values('sort')[0] ?? '';
  const views = all.data?.items ?? [];
  const current = views.find((v) => v.filter === filter && (v.sort || '') === sort && filter !== '');
  const remove = useChange(
    ['view'],
    (id: string) => ask(api.DELETE('/api/v1/views/{id}', { params: { path: { id } } })),
    { onError: (e) => toaster.create({ type: 'error', title: 'The view stays', description: e.message }) },
  );
  return (
    <>
      <Menu.Root
        onSelect={({ value }) => {
          const v = views.find((x) => x.id === value);
          if (value === 'keep') setKeeping(true);
          else if (value === 'forget' && current) remove.mutate(current.id);
          else if (v) {
            list.setAll({ filter: v.filter, sort: v.sort });
            if (v.columns.length > 0) props.onColumns?.(v.columns);
          }
        }}
      >
        <Menu.Trigger asChild>
          <Button size="xs" variant={current ? 'subtle' : 'outline'} colorPalette={current ? 'ivy' : 'gray'}>
            <Bookmark size={14} /> {current ? current.name : 'Views'}
          </Button>
        </Menu.Trigger>
        <Portal>
          <Menu.Positioner>
            <Menu.Content minW="16rem" maxH="70vh" overflowY="auto">
              {(['built_in', 'administrators', 'mine'] as const).map((whose) => {
                const some = views.filter((v) => v.whose === whose);
                return (
                  some.length > 0 && (
                    <Menu.ItemGroup key={whose}>
                      <Menu.ItemGroupLabel>{titles[whose]}</Menu.ItemGroupLabel>
                      {some.map((v) => (
                        <Menu.Item key={v.id} value={v.id}>
                          {v.name}
                        </Menu.Item>
                      ))}
                    </Menu.ItemGroup>
                  )
                );
              })}
              <Menu.Separator />
              <Menu.Item value="keep">Keep this as a view…</Menu.Item>
              {current && current.whose !== 'built_in' && (
                <Menu.Item value="forget">Delete the view {current.name}</Menu.Item>
              )}
            </Menu.Content>
          </Menu.Positioner>
        </Portal>
      </Menu.Root>
      {keeping && (
        <Suspense>
          <KeepView
            name={props.name}
            view={{ filter, sort, columns: props.columns }}
            onDone={() => setKeeping(false)}
          />
        </Suspense>
      )}
    </>
  );
}
