import hooks from 'eslint-plugin-react-hooks'
import a11y from 'eslint-plugin-jsx-a11y'
import tseslint from 'typescript-eslint'

export default tseslint.config(
  { ignores: ['dist', 'src/api/schema.ts'] },
  ...tseslint.configs.strict,
  { plugins: { 'react-hooks': hooks }, rules: hooks.configs.recommended.rules },
  { files: ['src/**/*.tsx'], ...a11y.flatConfigs.strict },
)
