import { Box, Button, HStack, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { api, ask, type DomainRecord, type SigningKey } from '../api/client';
import { date, moment } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { Loading, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';

const parts = {
  mx: 'Where its mail goes (MX)',
  spf: 'Which machines may send in its name (SPF)',
  dkim: 'What its mail is signed with (DKIM)',
  dmarc: 'What others do with mail that proves nothing (DMARC)',
} as const;
const states = { well: 'well', doubtful: 'doubtful', missing: 'missing', unknown: 'not known' } as const;

/** DomainCheck says what a mail domain publishes, what is missing, and what its mail is signed with. */
export function DomainCheck({ name, may }: { name: string; may: boolean }) {
  const path = { name };
  const check = useQuery({
    queryKey: ['naming', 'check', name],
    queryFn: () => ask(api.GET('/api/v1/domains/{name}/check', { params: { path } })),
    staleTime: 0,
  });
  const keys = useQuery({
    queryKey: ['naming', 'keys', name],
    queryFn: () => ask(api.GET('/api/v1/domains/{name}/keys', { params: { path } })),
  });
  const make = useChange(['naming'], () => ask(api.POST('/api/v1/domains/{name}/keys', { params: { path } })), {
    onSuccess: () => toaster.create({ type: 'success', title: 'A key was made. Publish its record, then use it.' }),
  });
  return (
    <Stack gap="3" mt="2" ps={{ base: 0, md: '4' }} fontSize="sm" data-check={name}>
      <Trouble error={check.error ?? keys.error ?? make.error} />
      {check.isFetching && !check.data && <Loading what={`what ${name} publishes`} />}
      {check.data && (
        <>
          <HStack justify="space-between" wrap="wrap">
            <Text role="status" fontWeight="600">
              {check.data.open === 0
                ? 'All is well.'
                : check.data.open === 1
                  ? '1 thing is to be done.'
                  : `${check.data.open} things are to be done.`}{' '}
              <Text as="span" color="fg.muted" fontWeight="400">
                Asked at {moment(check.data.at)}.
              </Text>
            </Text>
            <Button
              size="xs"
              variant="outline"
              colorPalette="gray"
              loading={check.isFetching}
              onClick={() => void check.refetch()}
            >
              Ask again
            </Button>
          </HStack>
          <Stack as="ul" gap="3" listStyleType="none">
            {check.data.items.map((r) => (
              <Record key={r.part + r.name} record={r} />
            ))}
          </Stack>
        </>
      )}
      {keys.data && (
        <Stack gap="1">
          <HStack justify="space-between" wrap="wrap">
            <Text fontWeight="600">Keys</Text>
            {may && (
              <Button
                size="xs"
                variant="outline"
                colorPalette="ivy"
                loading={make.isPending}
                onClick={() => make.mutate(undefined)}
              >
                Make a key
              </Button>
            )}
          </HStack>
          {keys.data.items.length === 0 && <Text color="fg.muted">There is none yet.</Text>}
          {keys.data.items.map((k) => (
            <Key key={k.selector} domain={name} signing={k} may={may} />
          ))}
        </Stack>
      )}
    </Stack>
  );
}

function Record({ record: r }: { record: DomainRecord }) {
  return (
    <Box as="li" borderTopWidth="1px" borderColor="border.muted" pt="2">
      <HStack justify="space-between" align="start" wrap="wrap">
        <Text fontWeight="600">{parts[r.part]}</Text>
        <Text>{r.state === 'well' ? states.well : <span className="warn">{states[r.state]}</span>}</Text>
      </HStack>
      <Text>{r.says}</Text>
      {r.name && <Text color="fg.muted">at {r.name}</Text>}
      {r.found && <Code label="Found" text={r.found} />}
      {r.wanted && <Code label="Wanted" text={r.wanted} />}
    </Box>
  );
}

function Code({ label, text }: { label: string; text: string }) {
  return (
    <Box mt="1">
      <Text fontSize="xs" color="fg.muted">
        {label}
      </Text>
      <Text fontFamily="mono" fontSize="xs" overflowWrap="anywhere" bg="bg.muted" p="2" tabIndex={0}>
        {text}
      </Text>
    </Box>
  );
}

function Key({ domain, signing: k, may }: { domain: string; signing: SigningKey; may: boolean }) {
  const params = { path: { name: domain, selector: k.selector } };
  const use = useChange(['naming'], () => ask(api.POST('/api/v1/domains/{name}/keys/{selector}/use', { params })));
  const end = useChange(['naming'], () => ask(api.DELETE('/api/v1/domains/{name}/keys/{selector}', { params })));
  return (
    <Box>
      <HStack justify="space-between" wrap="wrap">
        <Text overflowWrap="anywhere">
          {k.selector}{' '}
          <Text as="span" color="fg.muted">
            {k.used ? 'signs mail' : k.used_at ? 'signed mail before' : 'is not used yet'}, made on {date(k.made_at)}
          </Text>
        </Text>
        {may && !k.used && (
          <HStack>
            <Button
              size="2xs"
              variant="outline"
              aria-label={`Use ${k.selector}`}
              loading={use.isPending}
              onClick={() => use.mutate(undefined)}
            >
              Use
            </Button>
            <Button
              size="2xs"
              variant="outline"
              colorPalette="red"
              aria-label={`Delete ${k.selector}`}
              loading={end.isPending}
              onClick={() => end.mutate(undefined)}
            >
              Delete
            </Button>
          </HStack>
        )}
      </HStack>
      <Trouble error={use.error ?? end.error} />
    </Box>
  );
}
