import { Field, Input } from '@chakra-ui/react';

type Value = { value: string; onValue: (v: string) => void };

export function AddressField({ value, onValue }: Value) {
  return (
    <Field.Root required>
      <Field.Label>Your address</Field.Label>
      <Input
        name="address"
        type="email"
        autoComplete="username"
        value={value}
        onChange={(e) => onValue(e.target.value)}
        autoFocus
      />
    </Field.Root>
  );
}

/** PasswordField asks for the present password, or for a new one. */
export function PasswordField(props: Value & { label: string; fresh?: boolean; help?: string }) {
  return (
    <Field.Root required>
      <Field.Label>{props.label}</Field.Label>
      <Input
        name={props.fresh ? 'new-password' : 'password'}
        type="password"
        autoComplete={props.fresh ? 'new-password' : 'current-password'}
        value={props.value}
        onChange={(e) => props.onValue(e.target.value)}
      />
      {props.help && <Field.HelperText>{props.help}</Field.HelperText>}
    </Field.Root>
  );
}
