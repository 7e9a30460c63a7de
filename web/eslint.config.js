import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["dist", "src/api/schema.d.ts"] },
  ...ts.configs.strictTypeChecked,
  { languageOptions: { parserOptions: { projectService: true } } },
  hooks.configs.flat.recommended,
  { rules: { "@typescript-eslint/restrict-template-expressions": ["error", { allowNumber: true }] } },
);
