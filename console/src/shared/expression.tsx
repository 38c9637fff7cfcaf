import { Button, HStack, Stack, Text, Textarea } from '@chakra-ui/react';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useRef, useState } from 'react';
import { api, ask } from '../api/client';
import { useSettled } from '../lib/use-settled';

const octets = (s: string) => new TextEncoder().encode(s).length;
const upTo = (s: string, n: number) => new TextDecoder().decode(new TextEncoder().encode(s).slice(0, n));

/**
 * ExpressionField is a field for a rule of membership, or for a filter of a list, that offers what can be written
 * next: attributes, operators, and values.
 */
export function ExpressionField(props: {
  label: string;
  name?: string;
  list?: 'groups' | 'people' | 'history'; // of a filter
  placeholder: string;
  value: string;
  rows: number;
  onChange: (value: string) => void;
  onEnter?: () => void;
  wrong?: { at: number; says: string } | undefined; // at an octet
}) {
  const { list, wrong } = props;
  const field = useRef<HTMLTextAreaElement>(null);
  const [at, setAt] = useState(props.value.length);
  const asked = useSettled(props.value.slice(0, at), 120);
  const completion = useQuery({
    queryKey: ['rule', 'completion', list, asked],
    placeholderData: keepPreviousData,
    staleTime: 60_000,
    queryFn: () => {
      const query = { text: asked, at: octets(asked) };
      return list
        ? ask(api.GET('/api/v1/filters/{list}/completion', { params: { path: { list }, query } }))
        : ask(api.GET('/api/v1/rules/completion', { params: { query } }));
    },
  });
  const take = (text: string) => {
    const begun = upTo(props.value, completion.data?.from ?? 0);
    const next = `${begun}${text} `;
    props.onChange(next + props.value.slice(at).trimStart());
    setAt(next.length);
    field.current?.focus();
  };
  return (
    <Stack gap="2">
      <Textarea
        ref={field}
        name={props.name}
        aria-label={props.label}
        rows={props.rows}
        fontFamily="mono"
        fontSize="sm"
        bg="bg.panel"
        spellCheck={false}
        placeholder={props.placeholder}
        value={props.value}
        aria-invalid={wrong ? true : undefined}
        onChange={(e) => {
          props.onChange(e.target.value);
          setAt(e.target.selectionStart);
        }}
        onKeyDown={(e) => {
          if (e.key === 'Enter' && props.onEnter) {
            e.preventDefault();
            props.onEnter();
          }
        }}
        onSelect={(e) => setAt(e.currentTarget.selectionStart)}
      />
      {completion.data && completion.data.choices.length > 0 && (
        <HStack wrap="wrap" gap="1" aria-label="What can be written here" role="group">
          <Text fontSize="xs" color="fg.muted">
            {{ attribute: 'Attribute:', operator: 'Operator:', value: 'Value:', join: 'Then:' }[completion.data.what]}
          </Text>
          {completion.data.choices.slice(0, 14).map((c) => (
            <Button
              key={c.text}
              size="2xs"
              variant="outline"
              colorPalette="gray"
              title={c.about}
              onMouseDown={(e) => e.preventDefault()}
              onClick={() => take(c.text)}
            >
              {c.text}
              {c.about && c.about !== c.text && completion.data.what !== 'value' && (
                <Text as="span" color="fg.muted">
                  {c.about}
                </Text>
              )}
            </Button>
          ))}
        </HStack>
      )}
      {wrong && (
        <Text role="alert" fontSize="sm">
          <span className="warn">At character {upTo(props.value, wrong.at).length + 1}:</span> {wrong.says}
        </Text>
      )}
    </Stack>
  );
}
