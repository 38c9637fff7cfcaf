import { Combobox, createListCollection, Portal, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { api, ask } from '../api/client';
import { useSettled } from '../lib/use-settled';

/** findPeople asks whom the beginnings of words may mean, the best first. */
export const findPeople = (q: string, limit: number) =>
  ask(api.GET('/api/v1/people', { params: { query: { q, limit, sort: 'match' } } }));

/**
 * PeoplePicker finds people by the beginnings of their names. With outsiders, an
 * address that is typed in full can be chosen too.
 */
export function PeoplePicker(props: {
  label: string;
  placeholder: string;
  outsiders?: boolean;
  taken: string[];
  onPick: (address: string, name: string) => void;
}) {
  const [text, setText] = useState('');
  const q = useSettled(text.trim(), 120);
  const found = useQuery({
    queryKey: ['person', 'like', q],
    enabled: q.length > 0,
    queryFn: () => findPeople(q, 8),
  });
  const collection = useMemo(() => {
    const items = (found.data?.items ?? [])
      .filter((p) => !props.taken.includes(p.address))
      .map((p) => ({
        value: p.address,
        label: p.name,
        about: [p.address, p.attributes?.department].filter(Boolean).join(' · '),
      }));
    if (props.outsiders && items.length === 0 && /^\S+@\S+\.\S+$/.test(text.trim())) {
      items.unshift({ value: text.trim(), label: text.trim(), about: 'Use this address' });
    }
    return createListCollection({ items });
  }, [found.data, props.outsiders, props.taken, text]);
  return (
    <Combobox.Root
      collection={collection}
      inputValue={text}
      value={[]}
      size="sm"
      openOnClick={false}
      inputBehavior="autohighlight"
      selectionBehavior="clear"
      onInputValueChange={(e) => setText(e.inputValue)}
      onValueChange={(e) => {
        const item = e.items[0] as { value: string; label: string } | undefined;
        if (item) {
          props.onPick(item.value, item.label);
          setText('');
        }
      }}
    >
      <Combobox.Label>{props.label}</Combobox.Label>
      <Combobox.Control>
        <Combobox.Input placeholder={props.placeholder} borderColor="border.control" />
      </Combobox.Control>
      <Portal>
        <Combobox.Positioner>
          <Combobox.Content>
            <Combobox.Empty>
              {text.trim() === '' ? 'Type the beginning of a name.' : `Nobody's name begins with “${text.trim()}”.`}
            </Combobox.Empty>
            {collection.items.map((item) => (
              <Combobox.Item item={item} key={item.value}>
                <span>
                  {item.label}
                  <Text as="span" display="block" fontSize="xs" color="fg.muted">
                    {item.about}
                  </Text>
                </span>
                <Combobox.ItemIndicator />
              </Combobox.Item>
            ))}
          </Combobox.Content>
        </Combobox.Positioner>
      </Portal>
    </Combobox.Root>
  );
}
