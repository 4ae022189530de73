import svelte from 'eslint-plugin-svelte';
import ts from 'typescript-eslint';

export default ts.config(
  { ignores: ['dist', 'node_modules', 'src/lib/api/schema.d.ts'] },
  ...ts.configs.recommended,
  ...svelte.configs.recommended,
  {
    files: ['**/*.svelte', '**/*.svelte.ts'],
    languageOptions: { parserOptions: { parser: ts.parser } },
    rules: {
      // The app's links are plain addresses of its own router, not SvelteKit's.
      'svelte/no-navigation-without-resolve': 'off',
    },
  },
);
