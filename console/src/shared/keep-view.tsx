import { Button, CloseButton, Dialog, HStack, Input, Portal, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { api, ask } from '../api/client';
import { useChange } from '../lib/use-change';
import { useMe } from '../session/me';
import { Trouble } from '../ui/parts';
import type { ListName } from './list-page';

/** KeepView keeps the filter, order and columns of a list under a name. */
export default function KeepView(props: {
  name: ListName;
  view: { filter: string; sort: string; columns: string[] };
  onDone: () => void;
}) {
  const me = useMe();
  const [name, setName] = useState('');
  const [shared, setShared] = useState(false);
  const keep = useChange(
    ['view'],
    () => ask(api.POST('/api/v1/views', { body: { name, list: props.name, shared, ...props.view } })),
    { onSuccess: props.onDone },
  );
  return (
    <Dialog.Root open onOpenChange={props.onDone}>
      <Portal>
        <Dialog.Backdrop />
        <Dialog.Positioner>
          <Dialog.Content
            as="form"
            onSubmit={(e) => {
              e.preventDefault();
              keep.mutate();
            }}
          >
            <Dialog.Header>
              <Dialog.Title>Keep this as a view</Dialog.Title>
            </Dialog.Header>
            <Dialog.Body>
              <Stack gap="3">
                <Text fontSize="sm" color="fg.muted">
                  The filter, the order and the columns that are shown now, under a name.
                </Text>
                <Input
                  aria-label="Name of the view"
                  size="sm"
                  autoFocus
                  maxLength={100}
                  value={name}
                  onChange={(e) => setName(e.target.value)}
                />
                {me.may.includes('share_views') && (
                  <HStack as="label" fontSize="sm">
                    <input type="checkbox" checked={shared} onChange={(e) => setShared(e.target.checked)} />
                    For all administrators
                  </HStack>
                )}
                <Trouble error={keep.error} />
              </Stack>
            </Dialog.Body>
            <Dialog.Footer>
              <Button type="submit" size="sm" colorPalette="ivy" loading={keep.isPending} disabled={name.trim() === ''}>
                Keep {name.trim() || 'it'}
              </Button>
            </Dialog.Footer>
            <Dialog.CloseTrigger asChild>
              <CloseButton size="sm" aria-label="Close" />
            </Dialog.CloseTrigger>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}
