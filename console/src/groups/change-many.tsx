import { Box, Button, CloseButton, Dialog, HStack, Input, NativeSelect, Portal, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, ask, type NewBulk, Refusal } from '../api/client';
import { plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { PeoplePicker } from '../shared/people-picker';
import { Loading, Trouble } from '../ui/parts';
import type { Kind } from './bulk';
import { AliasesOfMany, ExternalsOfMany, PolicyOfMany, StartOfMany } from './bulk-parts';

const titles: Record<Kind, string> = {
  owners: 'Owners of',
  language: 'Language of',
  traits: 'What they do:',
  policy: 'Policy of',
  start: 'Begin again:',
  aliases: 'Further addresses of',
  externals: 'External members of',
  renew: 'Renew',
  exempt: 'Exempt',
  hold: 'Under hold:',
  retire: 'Retire',
  restore: 'Restore',
};

/** ChangeMany asks what is to be changed, shows what it would do, and begins it. What is likely meant can be chosen before. */
export default function ChangeMany(props: {
  kind: Kind;
  n: number;
  groups: NewBulk;
  likely?: Pick<NewBulk, 'policy' | 'aliases' | 'external_members'>;
  onDone: () => void;
}) {
  const { kind, groups } = props;
  const navigate = useNavigate();
  const [add, setAdd] = useState<{ address: string; name: string }[]>([]);
  const [replace, setReplace] = useState(false);
  const [language, setLanguage] = useState<'en' | 'de'>('en');
  const [traits, setTraits] = useState<Record<string, '' | 'on' | 'off'>>({});
  const [reason, setReason] = useState('');
  const [until, setUntil] = useState('');
  const [off, setOff] = useState(false);
  const [policy, setPolicy] = useState(props.likely?.policy ?? {});
  const [aliases, setAliases] = useState(props.likely?.aliases ?? { unused_days: 365 });
  const [outside, setOutside] = useState(props.likely?.external_members ?? { until: '' });
  const [start, setStart] = useState('');
  const set = (to: 'on' | 'off') => Object.keys(traits).filter((t) => traits[t] === to);
  const what: Record<Kind, Partial<NewBulk> | undefined> = {
    owners: add.length > 0 ? { owners: { add: add.map((p) => p.address), replace } } : undefined,
    language: { language },
    traits: set('on').length + set('off').length > 0 ? { traits: { on: set('on'), off: set('off') } } : undefined,
    policy: Object.keys(policy).length > 0 ? { policy } : undefined,
    start: start ? { starting_point: start } : undefined,
    aliases: { aliases },
    externals: outside.remove || outside.until || outside.voucher ? { external_members: outside } : undefined,
    renew: { renew: reason.trim() ? { reason } : {} },
    exempt: off
      ? { exempt: { reason: '' } }
      : reason.trim()
        ? { exempt: { reason, ...(until ? { until } : {}) } }
        : undefined,
    hold: off ? { release: true } : reason.trim() ? { hold: { reason } } : undefined,
    retire: { retire: true },
    restore: { restore: true },
  };
  const chosen = what[kind];
  const body = { ...groups, ...chosen };
  const preview = useQuery({
    queryKey: ['bulk', 'preview', body],
    enabled: chosen !== undefined,
    queryFn: () => ask(api.POST('/api/v1/changes/preview', { body })),
  });
  const begin = useChange(['bulk', 'group', 'member'], () => ask(api.POST('/api/v1/changes', { body })), {
    onSuccess: (b) => void navigate(`/changes/${b.id}`),
  });
  const p = preview.data;
  const refused = p?.sample.filter((l) => l.outcome === 'refused') ?? [];
  const does = {
    owners: 'Change the owners of',
    language: 'Change the language of',
    traits: 'Change',
    policy: 'Change the policy of',
    start: 'Begin again with',
    aliases: 'Change the further addresses of',
    externals: outside.remove ? 'Take them out of' : 'Change the external members of',
    renew: 'Renew',
    exempt: off ? 'Give back to the rules' : 'Exempt',
    hold: off ? 'Release' : 'Put under hold',
    retire: 'Retire',
    restore: 'Restore',
  }[kind];
  return (
    <Dialog.Root open onOpenChange={props.onDone} size="lg" scrollBehavior="inside">
      <Portal>
        <Dialog.Backdrop />
        <Dialog.Positioner>
          <Dialog.Content>
            <Dialog.Header>
              <Dialog.Title>
                {titles[kind]} {plural(props.n, 'group')}
              </Dialog.Title>
            </Dialog.Header>
            <Dialog.Body>
              <Stack gap="4" fontSize="sm">
                {kind === 'owners' && (
                  <Stack gap="2">
                    <PeoplePicker
                      label="Who becomes an owner"
                      placeholder="Begin to type a name"
                      taken={add.map((x) => x.address)}
                      onPick={(address, name) => setAdd([...add, { address, name }])}
                    />
                    <HStack wrap="wrap">
                      {add.map((x) => (
                        <Button
                          key={x.address}
                          size="2xs"
                          variant="subtle"
                          colorPalette="gray"
                          aria-label={`Without ${x.name}`}
                          onClick={() => setAdd(add.filter((y) => y !== x))}
                        >
                          {x.name} ×
                        </Button>
                      ))}
                    </HStack>
                    <HStack as="label">
                      <input type="checkbox" checked={replace} onChange={(e) => setReplace(e.target.checked)} />
                      In place of those there are: whoever else owns them becomes a member
                    </HStack>
                  </Stack>
                )}
                {kind === 'language' && (
                  <NativeSelect.Root size="sm" w="14rem">
                    <NativeSelect.Field
                      aria-label="Language of notices"
                      value={language}
                      onChange={(e) => setLanguage(e.target.value as 'en')}
                    >
                      <option value="en">English</option>
                      <option value="de">German</option>
                    </NativeSelect.Field>
                    <NativeSelect.Indicator />
                  </NativeSelect.Root>
                )}
                {kind === 'traits' && (
                  <Stack gap="1">
                    {['archive', 'desk', 'calendar', 'access'].map((t) => (
                      <HStack key={t}>
                        <Text w="6rem">{t}</Text>
                        <NativeSelect.Root size="sm" w="12rem">
                          <NativeSelect.Field
                            aria-label={t}
                            value={traits[t] ?? ''}
                            onChange={(e) => setTraits({ ...traits, [t]: e.target.value as '' })}
                          >
                            <option value="">stays as it is</option>
                            <option value="on">switched on</option>
                            <option value="off">switched off</option>
                          </NativeSelect.Field>
                          <NativeSelect.Indicator />
                        </NativeSelect.Root>
                      </HStack>
                    ))}
                  </Stack>
                )}
                {kind === 'policy' && <PolicyOfMany patch={policy} onPatch={setPolicy} />}
                {kind === 'start' && <StartOfMany start={start} onStart={setStart} />}
                {kind === 'aliases' && <AliasesOfMany change={aliases} onChange={setAliases} />}
                {kind === 'externals' && <ExternalsOfMany change={outside} onChange={setOutside} />}
                {kind === 'restore' && <Text>They are back with everything in them, and take mail again.</Text>}
                {(kind === 'renew' || kind === 'exempt' || kind === 'hold') && (
                  <Stack gap="2">
                    <Text>
                      {
                        {
                          renew: 'Their terms begin again today, by the rules that hold for them.',
                          exempt: 'No term rule is for them: they never expire.',
                          hold: 'They are neither retired nor deleted for good.',
                        }[kind]
                      }
                    </Text>
                    {!off && (
                      <HStack>
                        <Input
                          size="sm"
                          aria-label="Why"
                          placeholder={kind === 'renew' ? 'Why, if you like' : 'Why'}
                          value={reason}
                          onChange={(e) => setReason(e.target.value)}
                        />
                        {kind === 'exempt' && (
                          <Input
                            size="sm"
                            w="10rem"
                            type="date"
                            aria-label="When to look at it again"
                            value={until}
                            onChange={(e) => setUntil(e.target.value)}
                          />
                        )}
                      </HStack>
                    )}
                    {kind !== 'renew' && (
                      <HStack as="label">
                        <input type="checkbox" checked={off} onChange={(e) => setOff(e.target.checked)} />
                        {kind === 'exempt'
                          ? 'The other way round: the term rules are for them again'
                          : 'The other way round: release them'}
                      </HStack>
                    )}
                  </Stack>
                )}
                {kind === 'retire' && (
                  <Text>
                    They take no mail any more and keep everything in them. All of them can be restored as one.
                  </Text>
                )}
                {preview.isFetching && !p ? <Loading what="what it would do" /> : <Trouble error={preview.error} />}
                {p && (
                  <Box aria-live="polite">
                    <Text fontWeight="600">{p.says}</Text>
                    {p.problems.map((x) => (
                      <Text key={x.says} className="warn">
                        {x.says}
                      </Text>
                    ))}
                    {refused.length > 0 && (
                      <Box mt="2">
                        <Text color="fg.muted">Can&apos;t be changed, and stay as they are:</Text>
                        <Stack as="ul" gap="0.5" mt="1" maxH="12rem" overflowY="auto" listStyleType="none">
                          {refused.map((l) => (
                            <li key={l.address}>
                              <b>{l.name}</b> · {l.says}
                            </li>
                          ))}
                        </Stack>
                      </Box>
                    )}
                  </Box>
                )}
                <Trouble error={begin.error instanceof Refusal ? begin.error : null} />
              </Stack>
            </Dialog.Body>
            <Dialog.Footer>
              <Button
                size="sm"
                colorPalette={kind === 'retire' || (kind === 'externals' && outside.remove) ? 'brass' : 'ivy'}
                loading={begin.isPending}
                disabled={!p?.ready || p.problems.length > 0}
                onClick={() => begin.mutate()}
              >
                {does} {plural(p?.ready ?? 0, 'group')}
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
