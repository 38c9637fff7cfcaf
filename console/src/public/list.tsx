import { Box, Heading, Input, Stack, Text } from '@chakra-ui/react';
import { Link } from 'react-router';
import { api, ask } from '../api/client';
import { useList } from '../lib/use-list';
import { Frame } from '../ui/frame';
import { Loading, More, Trouble } from '../ui/parts';

/** PublicList is the groups that anyone on the internet may find, where the workspace wants them listed. */
export default function PublicList() {
  const list = useList({
    key: ['joining', 'public'],
    filters: ['q'],
    read: async (query, cursor) => {
      const page = await ask(api.GET('/api/v1/public/groups', { params: { query: { ...query, cursor } } }));
      return { ...page, items: page.items.map((g) => ({ ...g, id: g.address })) };
    },
  });
  return (
    <Frame width="44rem">
      <Stack gap="4">
        <Heading as="h1" size="2xl">
          Mail groups open to anyone
        </Heading>
        <Box as="label">
          <Text fontWeight="600" fontSize="sm" mb="1">
            Find one by its name
          </Text>
          <Input type="search" value={list.q} onChange={(e) => list.setQ(e.target.value)} />
        </Box>
        <Trouble error={list.error} />
        {!list.loaded && <Loading what="the groups" />}
        <Stack as="ul" gap="0" listStyleType="none" borderTopWidth="1px">
          {list.rows.map((g) => (
            <Box as="li" key={g.address} py="3" borderBottomWidth="1px">
              <Link to={`/public/${g.address}`}>
                <Text as="span" fontWeight="600" textDecoration="underline">
                  {g.name}
                </Text>
              </Link>
              <Text fontSize="sm" color="fg.muted">
                {g.address}
              </Text>
              {g.description && <Text fontSize="sm">{g.description}</Text>}
            </Box>
          ))}
        </Stack>
        {list.loaded && !list.error && list.rows.length === 0 && (
          <Text>{list.q ? `No group is called “${list.q}”.` : 'No group is open to anyone yet.'}</Text>
        )}
        <More list={list} />
      </Stack>
    </Frame>
  );
}
