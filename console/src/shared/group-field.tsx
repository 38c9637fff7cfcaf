import { Box, Button, Input } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask, type Group } from '../api/client';
import { people } from '../lib/dates';
import { useSettled } from '../lib/use-settled';

export const size = (g: Group) => g.counts.people;

const living: Group['state'][] = ['active', 'due'];

/** findGroups asks for groups by the beginnings of their names. */
export const findGroups = (q: string, limit: number, state = living) =>
  ask(api.GET('/api/v1/groups', { params: { query: { q, limit, state } } }));

/** GroupField finds a group by the beginnings of its name. */
export function GroupField({ onPick, label = 'Group' }: { onPick: (address: string) => void; label?: string }) {
  const [text, setText] = useState('');
  const [picked, setPicked] = useState('');
  const q = useSettled(text.trim(), 150);
  const found = useQuery({
    queryKey: ['group', 'like', q],
    enabled: q !== '' && picked === '',
    queryFn: () => findGroups(q, 6),
  });
  return (
    <Box>
      <Input
        size="sm"
        aria-label={label}
        placeholder="Begin to type the name of a group"
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          setPicked('');
          onPick('');
        }}
      />
      {picked === '' &&
        found.data?.items.map((g) => (
          <Button
            key={g.id}
            size="xs"
            variant="ghost"
            colorPalette="gray"
            onClick={() => {
              setText(g.name);
              setPicked(g.address);
              onPick(g.address);
            }}
          >
            {g.name}, {people(size(g))}
          </Button>
        ))}
    </Box>
  );
}
