import { Box, HStack, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, ask, type Finding } from '../api/client';
import { date, plural } from '../lib/dates';
import { Panel } from '../ui/parts';

export const severities = { serious: 'Serious', doubtful: 'Doubtful', minor: 'Minor' } as const;

/** useFindingKinds returns the kinds of findings, with how many of each there are. */
export const useFindingKinds = () =>
  useQuery({ queryKey: ['review', 'kinds'], queryFn: () => ask(api.GET('/api/v1/finding-kinds')) });

/** Severity is how much a finding weighs, as a mark and a word. */
export const Severity = ({ of }: { of: Finding['severity'] }) => (
  <span className={`mark weight ${of}`}>{severities[of]}</span>
);

/** mendPath is where what was found is mended: on a page of the group, or, without one, in a list over all groups. */
export function mendPath(to: string, kind: string, address?: string): string | undefined {
  const query = address ? `?group=${encodeURIComponent(address)}` : '';
  switch (to) {
    case 'externals':
      return `/people/external${query || (kind === 'unvouched' ? '?kind=alone' : '')}`;
    case 'waiting':
      return `/waiting${query}`;
  }
  if (!address) return undefined;
  const at = `/groups/${address}`;
  switch (to) {
    case 'people':
    case 'owners':
    case 'rule':
      return `${at}/people`;
    case 'nesting':
      return `${at}/nesting`;
    case 'policy':
      return `${at}/reach`;
    case 'renew':
    case 'retire':
    case 'exempt':
      return `${at}/term`;
  }
  return at;
}

/** What became of a finding, in words. */
export function Standing({ finding: f }: { finding: Finding }) {
  if (f.accepted) {
    return (
      <>
        Known and fine: {f.accepted.reason}
        {f.accepted.until && ` (until ${date(f.accepted.until)})`}
      </>
    );
  }
  return f.assigned ? <>Given to {f.assigned.to.name}</> : <>Open</>;
}

/** FindingsOf is what the review found about a group; nothing where it found nothing, or I may not know. */
export function FindingsOf({ address }: { address: string }) {
  const found = useQuery({
    queryKey: ['review', 'group', address],
    queryFn: () => ask(api.GET('/api/v1/findings', { params: { query: { group: address, limit: 50 } } })),
  });
  const items = found.data?.items ?? [];
  if (items.length === 0) return null;
  return (
    <Panel title="What the review found" side={<Text color="fg.muted">{plural(items.length, 'finding')}</Text>}>
      <FindingList items={items} />
    </Panel>
  );
}

/** FindingList is some findings, each with where it is mended. */
export function FindingList(props: { items: Finding[]; named?: boolean }) {
  return (
    <Stack as="ul" gap="3" listStyleType="none" fontSize="sm">
      {props.items.map((f) => {
        const about = f.group ?? f.person;
        return (
          <Box as="li" key={f.id} opacity={f.accepted ? 0.75 : 1}>
            <HStack justify="space-between" align="baseline" gap="3">
              <Text>
                {props.named && about && (
                  <>
                    <Link to={f.group ? `/groups/${about.address}` : `/people/${about.address}`}>
                      <b>{about.name}</b>
                    </Link>
                    {' · '}
                  </>
                )}
                {f.says}
              </Text>
              <Severity of={f.severity} />
            </HStack>
            <HStack gap="3" color="fg.muted" wrap="wrap">
              <span>since {date(f.since)}</span>
              {(f.accepted ?? f.assigned) && (
                <span>
                  <Standing finding={f} />
                </span>
              )}
              {!f.accepted &&
                f.mends.map((m) => {
                  const to = mendPath(m.do, f.kind, f.group?.address);
                  return (
                    to && (
                      <Link key={m.do} to={to}>
                        <u>{m.says}</u>
                      </Link>
                    )
                  );
                })}
            </HStack>
          </Box>
        );
      })}
    </Stack>
  );
}
