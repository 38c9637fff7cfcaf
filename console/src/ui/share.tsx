import { Box, HStack, Text } from '@chakra-ui/react';

export type Share = {
  key: string;
  label: string;
  value: number;
  look: 'full' | 'brass' | 'striped' | 'faint' | 'empty';
};

/** Shares is a bar of the parts of a whole, with their numbers as text under it. */
export function Shares(props: { label: string; shares: Share[]; thin?: boolean }) {
  const whole = Math.max(
    1,
    props.shares.reduce((n, s) => n + s.value, 0),
  );
  const says = props.shares.filter((s) => s.value > 0);
  return (
    <Box as="figure" m="0" aria-label={`${props.label}: ${says.map((s) => `${s.value} ${s.label}`).join(', ')}`}>
      <HStack className="shares" gap="0" h={props.thin ? '0.6rem' : '1rem'} aria-hidden>
        {says.map((s) => (
          <span
            key={s.key}
            className={s.look}
            style={{ width: `${(100 * s.value) / whole}%` }}
            title={`${s.value} ${s.label}`}
          />
        ))}
      </HStack>
      {!props.thin && (
        <HStack as="figcaption" mt="1" gap="4" wrap="wrap" fontSize="sm">
          {props.shares.map((s) => (
            <Text key={s.key} as="span" color={s.value === 0 ? 'fg.muted' : undefined}>
              <span className={`swatch ${s.look}`} /> {s.value.toLocaleString('en-GB')} {s.label}
            </Text>
          ))}
        </HStack>
      )}
    </Box>
  );
}
