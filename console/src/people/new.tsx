import { Box, Button, Heading, Input, Stack, Text } from '@chakra-ui/react';
import { useWatch } from 'react-hook-form';
import { useNavigate } from 'react-router';
import { api, ask, type PersonDetails } from '../api/client';
import { useDraft } from '../lib/use-draft';
import { Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';
import { blank, EntryFields, roleOf, type Values } from './entry';

type NewValues = Values & { address: string; password_link: boolean };

const empty: NewValues = { ...blank, address: '', password_link: true };

/** NewPerson puts somebody into the directory. */
export default function NewPerson() {
  const navigate = useNavigate();
  const draft = useDraft<NewValues, PersonDetails>({
    saved: empty,
    touches: ['person', 'group', 'member', 'rule', 'life'],
    save: (v) => {
      const role = roleOf(v);
      const attributes = Object.fromEntries(Object.entries(v.attributes).filter(([, value]) => value !== ''));
      return ask(
        api.POST('/api/v1/people', {
          body: {
            address: v.address,
            name: v.name,
            attributes,
            password_link: v.password_link,
            ...(role === 'none' ? {} : { workspace_role: role }),
          },
        }),
      );
    },
    onSaved: (p) => {
      if (p.note) toaster.create({ type: 'warning', title: `${p.name} is somebody new`, description: p.note });
      void navigate(`/people/${p.address}`);
    },
  });
  const v = useWatch({ control: draft.form.control }) as NewValues;
  return (
    <Box p={{ base: 3, md: 5 }} maxW="40rem" mx="auto">
      <Heading as="h1" size="2xl" mb="4">
        Add somebody
      </Heading>
      <Panel>
        <Stack as="form" gap="2" onSubmit={(e) => void draft.save(e)}>
          <Box as="label" display="grid" gridTemplateColumns="9rem 1fr" alignItems="center" fontSize="sm">
            <span>Address</span>
            <Input size="sm" placeholder="name@…" autoFocus {...draft.register('address')} />
            {draft.problem('address') && (
              <Text gridColumn="2" role="alert" className="warn">
                {draft.problem('address')}
              </Text>
            )}
          </Box>
          <EntryFields register={draft.register as never} filled={v.attributes} problem={draft.problem} />
          <label style={{ fontSize: '0.9rem' }}>
            <input type="checkbox" {...draft.register('password_link')} /> Mail them a link to choose a password, so
            that they can sign in
          </label>
          <Trouble error={draft.error} />
          <Button
            type="submit"
            alignSelf="start"
            colorPalette="ivy"
            disabled={v.address === '' || v.name === ''}
            loading={draft.saving}
          >
            Add {v.name || 'somebody'}
          </Button>
        </Stack>
      </Panel>
    </Box>
  );
}
