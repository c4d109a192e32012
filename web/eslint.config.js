import js from '@eslint/js'
import a11y from 'eslint-plugin-jsx-a11y-x'
import hooks from 'eslint-plugin-react-hooks'
import tseslint from 'typescript-eslint'

/** Folders in the order in which they may import: each only from those before it. */
const order = ['domain', 'api', 'parts', 'charts', 'grid', 'commands', 'features', 'app']
const downward = order.map((folder, place) => ({
  files: [`src/${folder}/**/*.{ts,tsx}`],
  rules: {
    'no-restricted-imports': [
      'error',
      {
        patterns: order
          .slice(place + 1)
          .map((later) => ({ group: [`**/${later}/*`], message: `${folder} comes before ${later}` })),
      },
    ],
  },
}))

export default tseslint.config(
  { ignores: ['dist', 'src/api/schema.ts'] },
  js.configs.recommended,
  ...tseslint.configs.recommendedTypeChecked,
  { languageOptions: { parserOptions: { projectService: true } } },
  {
    files: ['src/**/*.{ts,tsx}'],
    plugins: { 'react-hooks': hooks, 'jsx-a11y-x': a11y },
    rules: {
      'react-hooks/rules-of-hooks': 'error',
      'react-hooks/exhaustive-deps': 'error',
      'jsx-a11y-x/alt-text': 'error',
      'jsx-a11y-x/label-has-associated-control': 'error',
      '@typescript-eslint/no-misused-promises': ['error', { checksVoidReturn: false }],
      '@typescript-eslint/only-throw-error': 'off',
    },
  },
  ...downward,
)
