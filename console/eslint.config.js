import js from '@eslint/js';
import hooks from 'eslint-plugin-react-hooks';
import ts from 'typescript-eslint';

export default ts.config(
  { ignores: ['**/*.gen.ts'] },
  js.configs.recommended,
  ...ts.configs.strict,
  { plugins: { 'react-hooks': hooks }, rules: { ...hooks.configs.recommended.rules, 'react-hooks/incompatible-library': 'off' } }, // that rule is about a compiler that is not used here
);
