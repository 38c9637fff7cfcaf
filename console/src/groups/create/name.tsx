import { Badge, Field, HStack, Input, NativeSelect, Stack, Text, Textarea } from '@chakra-ui/react';
import type { Proposal } from '../../api/client';
import { useMe } from '../../session/me';
import { Tags } from '../../ui/tags';
import type { New } from './draft';
import { Section } from './section';

const statusWords: Record<Proposal['status'], string> = {
  free: 'free',
  taken: 'taken',
  alike: 'too alike',
  reserved: 'reserved',
  unavailable: 'not available',
  against: 'against a rule',
  invalid: 'not possible',
};

/** Name is what the group is called, where it is, and why it exists. */
export function Name({ n }: { n: New }) {
  const me = useMe();
  const { draft, sheet, set, proposal } = n;
  return (
    <Section id="name" title="Name and address">
      <Stack gap="4">
        <Field.Root required invalid={!!draft.problem('name')}>
          <Field.Label>Name</Field.Label>
          <Input placeholder="Slipway Repairs" autoFocus {...draft.register('name')} />
          <Field.ErrorText>{draft.problem('name')}</Field.ErrorText>
        </Field.Root>
        <Field.Root invalid={!!proposal && proposal.status !== 'free' && proposal.says !== ''}>
          <Field.Label>Address</Field.Label>
          <HStack w="full">
            <Input
              name="local"
              aria-label="Address before the @"
              placeholder="proposed from the name"
              value={sheet.local ?? proposal?.address.split('@')[0] ?? ''}
              onChange={(e) => set({ local: e.target.value === '' ? null : e.target.value })}
            />
            <Text>@</Text>
            <NativeSelect.Root>
              <NativeSelect.Field aria-label="Domain" {...draft.register('domain')}>
                {me.domains.map((d) => (
                  <option key={d}>{d}</option>
                ))}
              </NativeSelect.Field>
              <NativeSelect.Indicator />
            </NativeSelect.Root>
          </HStack>
          <HStack aria-live="polite" fontSize="sm" minH="1.5rem" data-status={proposal?.status}>
            {proposal && (
              <>
                <Badge colorPalette={proposal.status === 'free' ? 'ivy' : 'red'}>{statusWords[proposal.status]}</Badge>
                <Text color="fg.muted">{proposal.says}</Text>
              </>
            )}
          </HStack>
        </Field.Root>
        <Tags
          label="Further addresses"
          placeholder="Old names, typing mistakes; then Enter"
          list={sheet.aliases}
          onChange={(aliases) => set({ aliases })}
        />
        <Field.Root>
          <Field.Label>Why it exists</Field.Label>
          <Textarea rows={2} maxLength={2000} {...draft.register('description')} />
          <Field.HelperText>For whoever looks at it in three years.</Field.HelperText>
        </Field.Root>
      </Stack>
    </Section>
  );
}
