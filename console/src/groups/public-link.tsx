import { Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, ask, type Group } from '../api/client';

/** PublicLink leads to the page that a group has on the internet, where it has one. */
export function PublicLink({ group: g }: { group: Group }) {
  const open = g.policy.find === 'anyone' && !g.term.ended_at;
  const pages = useQuery({
    queryKey: ['naming', 'public-pages'],
    enabled: open,
    queryFn: () => ask(api.GET('/api/v1/public-pages')),
  });
  if (!open || !pages.data?.pages) return null;
  return (
    <Text fontSize="sm">
      Anyone on the internet sees{' '}
      <Link to={`/public/${g.address}`}>
        <u>its public page</u>
      </Link>
      .
    </Text>
  );
}
