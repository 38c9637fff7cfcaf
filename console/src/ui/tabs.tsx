import { HStack } from '@chakra-ui/react';
import { NavLink } from 'react-router';

/** Tabs lead to the parts of a page. */
export function Tabs(props: { label: string; parts: readonly { path: string; label: string }[] }) {
  return (
    <HStack as="nav" aria-label={props.label} gap="1" borderBottomWidth="1px" mb="5" overflowX="auto">
      {props.parts.map((p, i) => (
        <NavLink
          key={p.path}
          end={i === 0}
          to={p.path}
          style={({ isActive }) => ({
            padding: '0.5rem 0.9rem',
            whiteSpace: 'nowrap',
            borderBottom: '3px solid',
            borderColor: isActive ? 'var(--ivy-colors-ivy-solid)' : 'transparent',
            fontWeight: isActive ? 600 : 400,
          })}
        >
          {p.label}
        </NavLink>
      ))}
    </HStack>
  );
}
