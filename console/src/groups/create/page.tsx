import { Box, Button, Field, Grid, Heading, HStack, SimpleGrid, Stack, Text, Textarea } from '@chakra-ui/react';
import { PolicyEditor, valuesIn, valuesOf, withPrivacy, withValue } from '../../shared/policy';
import { Rings } from '../../shared/rings';
import { Choice, Trouble } from '../../ui/parts';
import { deliveries, languages, TraitBoxes } from '../settings';
import { type New, type Sheet as Filled, useNewGroup } from './draft';
import { Name } from './name';
import { Owners, People } from './people';
import { Section, Steps } from './section';
import { Sheet } from './sheet';

/** CreateGroup is a sheet to fill in about a new group, in any order. */
export default function CreateGroup() {
  const n = useNewGroup();
  const { sheet } = n;
  return (
    <Box p={{ base: 3, md: 5 }} maxW="86rem" mx="auto">
      <HStack justify="space-between" mb="4">
        <Heading as="h1" size="2xl">
          Create a group
        </Heading>
        <Button size="sm" variant="ghost" colorPalette="gray" onClick={n.draft.drop}>
          Clear the sheet
        </Button>
      </HStack>
      <Grid templateColumns={{ base: 'minmax(0, 1fr)', lg: '9rem minmax(0, 1fr) 22rem' }} gap="6" alignItems="start">
        <Steps
          done={{
            start: sheet.starting_point !== '',
            use: sheet.traits.length > 0,
            name: n.proposal?.status === 'free' && sheet.name.trim() !== '',
            owners: sheet.who.some((w) => w.role === 'owner'),
            people: sheet.who.some((w) => w.role !== 'owner') || sheet.lists.length > 0 || !!sheet.rule?.trim(),
            reach: Object.keys(sheet.policy).length > 0,
          }}
        />
        <Stack gap="5" minW="0">
          <Start n={n} />
          <Name n={n} />
          <Owners n={n} />
          <People n={n} />
          <Reach n={n} />
          <Use n={n} />
        </Stack>
        <Sheet n={n} />
      </Grid>
    </Box>
  );
}

function Start({ n }: { n: New }) {
  return (
    <Section id="start" title="Begin from">
      <SimpleGrid columns={{ base: 1, md: 3 }} gap="2" role="radiogroup" aria-label="Starting point">
        {n.startingPoints.map((s) => (
          <Box
            as="label"
            key={s.name}
            borderWidth="1px"
            borderRadius="md"
            p="2.5"
            fontSize="sm"
            cursor="pointer"
            {...(n.sheet.starting_point === s.name ? { borderColor: 'ivy.solid', bg: 'ivy.subtle' } : {})}
          >
            <input
              type="radio"
              name="starting-point"
              checked={n.sheet.starting_point === s.name}
              onChange={() => n.begin(s.name)}
            />{' '}
            <b>{s.title}</b>
            <Text color="fg.muted" fontSize="xs">
              {s.about}
            </Text>
          </Box>
        ))}
      </SimpleGrid>
      <Text fontSize="sm" color="fg.muted" mt="2">
        It fills in reach and use, which you can change below, now and at any time later.
      </Text>
    </Section>
  );
}

function Reach({ n }: { n: New }) {
  const { policy } = n.sheet;
  const s = n.summary;
  if (!s) {
    return (
      <Section id="reach" title="Reach">
        <Trouble error={n.summaryError} />
      </Section>
    );
  }
  const values = { ...valuesOf(s), ...valuesIn(policy, s.settings) };
  const choose = (name: string, value: string) => {
    const setting = s.settings.find((x) => x.name === name);
    if (setting) n.set({ policy: withValue(policy, setting, value) });
  };
  return (
    <Section id="reach" title="Reach">
      <Stack gap="5">
        <PolicyEditor
          sentences={s.sentences}
          settings={s.settings}
          privacy={policy.privacy ?? s.privacy}
          values={values}
          was={values}
          onValue={choose}
          onPrivacy={(privacy) => n.set({ policy: withPrivacy(policy, privacy) })}
        />
        <Rings settings={s.settings} values={values} was={values} onValue={choose} />
      </Stack>
      <Trouble error={n.summaryError} />
    </Section>
  );
}

function Use({ n }: { n: New }) {
  const { sheet, set } = n;
  return (
    <Section id="use" title="Use">
      <Stack gap="4">
        <TraitBoxes list={sheet.traits} onChange={(traits) => set({ traits })} />
        <SimpleGrid columns={{ base: 1, md: 2 }} gap="4">
          <Choice
            label="Notices in"
            value={sheet.language}
            choices={languages}
            onChange={(x) => set({ language: x as Filled['language'] })}
          />
          <Choice
            label="New members get"
            value={sheet.default_delivery}
            choices={deliveries}
            onChange={(x) => set({ default_delivery: x as Filled['default_delivery'] })}
          />
        </SimpleGrid>
        <Field.Root>
          <Field.Label>Said to new members</Field.Label>
          <Textarea rows={2} maxLength={2000} {...n.draft.register('welcome')} />
          <Field.HelperText>Stands in the mail that tells them that they are in.</Field.HelperText>
        </Field.Root>
      </Stack>
    </Section>
  );
}
