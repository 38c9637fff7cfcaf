import { Box, Grid, HStack, Input, Stack, Text, Textarea } from '@chakra-ui/react';
import { useState } from 'react';
import { useWatch } from 'react-hook-form';
import { api, ask, type Group } from '../api/client';
import { useDraft } from '../lib/use-draft';
import { Choice, Fact, Moved, Panel, Saving, Trouble } from '../ui/parts';
import { useGroup } from './page';
import { Posts } from './posts';

type Texts = Group['mail'];

/** Mail is what a group adds to the mail that it passes on, and says to those who write to it. */
export default function Mail() {
  const g = useGroup();
  const may = g.may?.includes('change') ?? false;
  return (
    <Stack gap="5">
      {may ? <Draft group={g} /> : <Look group={g} />}
      <Posts group={g} />
    </Stack>
  );
}

const repliesTo = (t: Texts, g: Group) =>
  t.reply === 'group' ? g.address : t.reply === 'author' ? 'whoever wrote' : t.reply || 'an address';

function Look({ group: g }: { group: Group }) {
  const t = g.mail;
  return (
    <Grid templateColumns={{ base: 'minmax(0, 1fr)', lg: '1fr 1fr' }} gap="5" alignItems="start">
      <Panel title="Writing to it">
        <Stack as="dl" gap="2">
          {t.notice && <Fact name="It says">{t.notice}</Fact>}
          <Fact name="Answers go to">{repliesTo(t, g)}</Fact>
          {t.answer && (
            <Fact name="Answers by itself">
              <Text whiteSpace="pre-line">{t.answer}</Text>
            </Fact>
          )}
        </Stack>
      </Panel>
      <Sample group={g} texts={t} />
    </Grid>
  );
}

function Draft({ group: g }: { group: Group }) {
  const draft = useDraft<{ mail: Texts }, Group>({
    saved: { mail: g.mail },
    version: g.version,
    touches: ['group'],
    save: (body, tag) =>
      ask(api.PATCH('/api/v1/groups/{ref}', { params: { path: { ref: g.id }, header: { 'If-Match': tag } }, body })),
  });
  const { form, register } = draft;
  const t = useWatch({ control: form.control }).mail as Texts;
  const set = <F extends keyof Texts>(field: F, value: Texts[F]) =>
    form.setValue(`mail.${field}`, value as never, { shouldDirty: true });
  const [elsewhere, setElsewhere] = useState(g.mail.reply !== 'author' && g.mail.reply !== 'group');
  const where = elsewhere ? 'address' : t.reply === 'group' ? 'group' : 'author';
  const says = (field: keyof Texts) => {
    const words = draft.problem(`mail.${field}`);
    return (
      words && (
        <Text as="span" role="alert" className="warn" display="block">
          {words}
        </Text>
      )
    );
  };
  return (
    <Grid templateColumns={{ base: 'minmax(0, 1fr)', lg: '1fr 1fr' }} gap="5" alignItems="start">
      <Stack gap="5">
        <Panel title="On each message">
          <Stack gap="4">
            <Moved draft={draft} />
            <Box>
              <Choice
                label="Answers go to"
                value={where}
                choices={[
                  ['author', 'Whoever wrote'],
                  ['group', 'The group'],
                  ['address', 'An address'],
                ]}
                onChange={(x) => {
                  setElsewhere(x === 'address');
                  set('reply', x === 'address' ? '' : x);
                }}
              />
              {elsewhere && (
                <Input
                  mt="2"
                  size="sm"
                  type="email"
                  aria-label="The address that answers go to"
                  placeholder="desk@merrowline.example"
                  {...register('mail.reply')}
                />
              )}
              {says('reply')}
            </Box>
            <Box fontSize="sm">
              <Choice
                label="Mail of outsiders goes on in the name of"
                value={t.from}
                choices={[
                  ['author', 'its author'],
                  ['due', 'the group, where the author’s domain would have it refused'],
                  ['group', 'the group'],
                ]}
                onChange={(x) => set('from', x as typeof t.from)}
              />
              <Text color="fg.muted">In the group&apos;s name, answers go to the author.</Text>
              {says('from')}
            </Box>
            <Box as="label" fontSize="sm">
              <Text fontWeight="600" mb="1">
                Before the subject, in brackets
              </Text>
              <Input size="sm" maxW="16rem" maxLength={30} placeholder="nothing" {...register('mail.tag')} />
              {says('tag')}
            </Box>
            <Box as="label" fontSize="sm">
              <Text fontWeight="600" mb="1">
                Below each message
              </Text>
              <Textarea rows={3} maxLength={1000} placeholder="nothing" {...register('mail.footer')} />
              <Text color="fg.muted">What is signed or encrypted goes on as it came.</Text>
              {says('footer')}
            </Box>
          </Stack>
        </Panel>
        <Panel title="To those who write">
          <Stack gap="4">
            <Box as="label" fontSize="sm">
              <Text fontWeight="600" mb="1">
                Before they write
              </Text>
              <Input size="sm" maxLength={300} placeholder="nothing" {...register('mail.notice')} />
              <Text color="fg.muted">
                On the group&apos;s page, and in what they are answered. Such as: away at the fair.
              </Text>
              {says('notice')}
            </Box>
            <Box as="label" fontSize="sm">
              <Text fontWeight="600" mb="1">
                An answer that goes out by itself
              </Text>
              <Textarea rows={4} maxLength={2000} placeholder="none" {...register('mail.answer')} />
              {says('answer')}
            </Box>
            {t.answer && (
              <HStack as="label" fontSize="sm">
                <Text>To the same sender once in</Text>
                <Input
                  size="sm"
                  type="number"
                  w="5rem"
                  min={1}
                  max={90}
                  {...register('mail.answer_days', { valueAsNumber: true })}
                />
                <Text>days</Text>
                {says('answer_days')}
              </HStack>
            )}
          </Stack>
        </Panel>
        <Trouble error={draft.error} />
        <Saving draft={draft} label="Have it so" />
      </Stack>
      <Sample group={g} texts={t} />
    </Grid>
  );
}

/** Sample is a message as people get it. */
function Sample({ group: g, texts: t }: { group: Group; texts: Texts }) {
  const tag = t.tag ? `[${t.tag}] ` : '';
  return (
    <Panel title="What people get">
      <Stack as="dl" gap="1" fontSize="sm" aria-label="A message of this group">
        <Fact name="From">Tove Alder</Fact>
        <Fact name="To">{g.address}</Fact>
        <Fact name="Subject">
          <Text as="span" fontWeight="600">
            {tag}
          </Text>
          Tomorrow&apos;s tides
        </Fact>
        <Fact name="Answers go to">{t.reply === 'author' ? 'Tove Alder' : repliesTo(t, g)}</Fact>
      </Stack>
      <Box mt="3" p="4" borderWidth="1px" borderRadius="md" fontSize="sm" bg="bg.subtle">
        <Text>High water is at ten past six; the pier floods from half past five.</Text>
        {t.footer && (
          <Text mt="3" pt="2" borderTopWidth="1px" whiteSpace="pre-line" color="fg.muted">
            {t.footer}
          </Text>
        )}
      </Box>
    </Panel>
  );
}
