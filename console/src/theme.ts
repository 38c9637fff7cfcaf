import { createSystem, defaultConfig, defineConfig } from '@chakra-ui/react';

const palette = (name: string, dark: { solid: string; contrast: string }) => ({
  solid: { value: { _light: `{colors.${name}.700}`, _dark: dark.solid } },
  contrast: { value: { _light: 'white', _dark: dark.contrast } },
  fg: { value: { _light: `{colors.${name}.800}`, _dark: `{colors.${name}.200}` } },
  muted: { value: { _light: `{colors.${name}.100}`, _dark: `{colors.${name}.900}` } },
  subtle: { value: { _light: `{colors.${name}.50}`, _dark: `{colors.${name}.950}` } },
  emphasized: { value: { _light: `{colors.${name}.200}`, _dark: `{colors.${name}.800}` } },
  focusRing: { value: { _light: `{colors.${name}.600}`, _dark: `{colors.${name}.400}` } },
  border: { value: { _light: `{colors.${name}.300}`, _dark: `{colors.${name}.700}` } },
});

const shades = (list: string[]) =>
  Object.fromEntries(
    ['50', '100', '200', '300', '400', '500', '600', '700', '800', '900', '950'].map((k, i) => [
      k,
      { value: list[i] ?? '' },
    ]),
  );

const config = defineConfig({
  cssVarsPrefix: 'ivy',
  globalCss: {
    'html, body': { bg: 'bg.ground', color: 'fg' },
    ':focus-visible': { outlineColor: 'ivy.focusRing' },
    'p a': { color: 'ivy.fg', textDecoration: 'underline', textUnderlineOffset: '0.2em' },
    'h1, h2': { fontFamily: 'heading', textWrap: 'balance' },
  },
  theme: {
    tokens: {
      fonts: {
        body: { value: "'Inter Variable', system-ui, sans-serif" },
        heading: { value: "'Source Serif 4 Variable', Georgia, serif" },
      },
      colors: {
        gray: shades([
          '#faf8f3',
          '#f2eee5',
          '#e4ddcf',
          '#cfc6b4',
          '#a39a88',
          '#787062',
          '#5c554a',
          '#464038',
          '#2e2a24',
          '#211e1a',
          '#161411',
        ]),
        ivy: shades([
          '#eef6f0',
          '#dbece0',
          '#b9dac4',
          '#8cc1a0',
          '#5ca27a',
          '#3d8560',
          '#2f6d4d',
          '#265a40',
          '#204935',
          '#173626',
          '#0d2217',
        ]),
        brass: shades([
          '#fbf5e4',
          '#f5e8c3',
          '#ead08a',
          '#dbb452',
          '#c0942f',
          '#9c7520',
          '#7f5d19',
          '#674a16',
          '#523b14',
          '#3a2a0f',
          '#251a08',
        ]),
      },
    },
    semanticTokens: {
      colors: {
        bg: {
          DEFAULT: { value: { _light: '#fffdf9', _dark: '#1f1c18' } },
          ground: { value: { _light: '#f6f2e9', _dark: '#171512' } },
          subtle: { value: { _light: '#faf7f0', _dark: '#25221d' } },
          muted: { value: { _light: '#f1ecdf', _dark: '#2d2923' } },
          panel: { value: { _light: '#fffdf9', _dark: '#25221d' } },
        },
        fg: {
          DEFAULT: { value: { _light: '#26221c', _dark: '#efe9dd' } },
          muted: { value: { _light: '#5a5347', _dark: '#bcb3a2' } },
          subtle: { value: { _light: '#676053', _dark: '#a79e8d' } },
        },
        border: {
          DEFAULT: { value: { _light: '#ddd5c4', _dark: '#3d382f' } },
          control: { value: { _light: '#8d8473', _dark: '#7d7463' } },
        },
        gray: { border: { value: { _light: '{colors.gray.400}', _dark: '{colors.gray.600}' } } },
        ivy: palette('ivy', { solid: '{colors.ivy.300}', contrast: '{colors.ivy.950}' }),
        brass: palette('brass', { solid: '{colors.brass.300}', contrast: '{colors.brass.950}' }),
      },
    },
    recipes: {
      input: { variants: { variant: { outline: { borderColor: 'border.control' } } } },
      textarea: { variants: { variant: { outline: { borderColor: 'border.control' } } } },
    },
    slotRecipes: {
      field: { slots: [], base: { errorText: { color: { _light: 'red.700', _dark: 'red.300' } } } },
      nativeSelect: {
        slots: [],
        variants: { variant: { outline: { field: { borderColor: 'border.control' } } } },
      },
    },
  },
});

export const system = createSystem(defaultConfig, config);
