import a11y from "eslint-plugin-jsx-a11y"
import hooks from "eslint-plugin-react-hooks"
import typescript from "typescript-eslint"

export default typescript.config(
  { ignores: ["dist", "src/*.gen.*"] },
  typescript.configs.base,
  a11y.flatConfigs.recommended,
  {
    files: ["src/**/*.{ts,tsx}"],
    languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } },
    plugins: { "react-hooks": hooks },
    rules: {
      "react-hooks/rules-of-hooks": "error",
      "react-hooks/exhaustive-deps": "error",
      "@typescript-eslint/no-floating-promises": "error",
      "@typescript-eslint/no-misused-promises": ["error", { checksVoidReturn: { attributes: false, properties: false } }],
      "@typescript-eslint/no-non-null-assertion": "error",
      "max-lines-per-function": ["error", { max: 80, skipBlankLines: true, skipComments: true }],
      // what opens on a click is where one goes on
      "jsx-a11y/no-autofocus": "off",
      // Escape closes a form
      "jsx-a11y/no-noninteractive-element-interactions": ["error", { form: ["onSubmit", "onKeyDown"] }],
    },
  },
)
