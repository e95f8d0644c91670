import js from '@eslint/js'
import a11y from 'eslint-plugin-jsx-a11y'
import hooks from 'eslint-plugin-react-hooks'
import ts from 'typescript-eslint'

export default ts.config(
  { ignores: ['dist', 'node_modules', 'src/api/schema.d.ts'] },
  js.configs.recommended,
  ts.configs.recommendedTypeChecked,
  {
    languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } },
  },
  hooks.configs.flat['recommended-latest'],
  a11y.flatConfigs.recommended,
  {
    rules: {
      // A label that is around a field names it; ours are MUI's.
      'jsx-a11y/label-has-associated-control': [
        'error',
        { controlComponents: ['OutlinedInput', 'Select', 'Texels'], depth: 3 },
      ],
      // What scrolls can be reached by keyboard.
      'jsx-a11y/no-noninteractive-tabindex': ['error', { roles: ['region', 'tabpanel'], tags: [] }],
      // A word for the React compiler, which is not used here.
      'react-hooks/incompatible-library': 'off',
    },
  },
  { files: ['*.js'], extends: [ts.configs.disableTypeChecked] },
)
