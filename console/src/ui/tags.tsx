import { Box, Button, HStack, Input, Text } from '@chakra-ui/react';
import { useState } from 'react';

/** Tags edits a list of short texts. */
export function Tags(props: {
  label: string;
  placeholder: string;
  list: string[];
  onChange: (list: string[]) => void;
  help?: string;
}) {
  const [text, setText] = useState('');
  const add = (typed: string) => {
    const next = typed
      .split(/[,;\n]/)
      .map((s) => s.trim())
      .filter((s) => s !== '' && !props.list.includes(s));
    if (next.length > 0) props.onChange([...props.list, ...next]);
    setText('');
  };
  return (
    <Box fontSize="sm">
      <Text as="label" fontWeight="600" display="block">
        {props.label}
        <HStack mt="1">
          <Input
            size="sm"
            value={text}
            placeholder={props.placeholder}
            onChange={(e) => setText(e.target.value)}
            onBlur={(e) => add(e.currentTarget.value)}
            onKeyDown={(e) => {
              if (e.key === 'Enter' || e.key === ',') {
                e.preventDefault();
                add(e.currentTarget.value);
              }
            }}
          />
        </HStack>
      </Text>
      {props.help && (
        <Text color="fg.muted" mt="1">
          {props.help}
        </Text>
      )}
      {props.list.length > 0 && (
        <HStack wrap="wrap" gap="1" mt="2">
          {props.list.map((x) => (
            <Button
              key={x}
              size="2xs"
              variant="subtle"
              colorPalette="gray"
              aria-label={`Take ${x} away`}
              onClick={() => props.onChange(props.list.filter((y) => y !== x))}
            >
              {x} ×
            </Button>
          ))}
        </HStack>
      )}
    </Box>
  );
}
