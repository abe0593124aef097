import js from "@eslint/js";
import a11y from "eslint-plugin-jsx-a11y";
import ts from "typescript-eslint";

export default ts.config(
  js.configs.recommended,
  ...ts.configs.recommended,
  a11y.flatConfigs.recommended,
  { rules: { "jsx-a11y/no-noninteractive-tabindex": ["error", { roles: ["log"], tags: [] }] } },
  { ignores: ["src/api/schema.d.ts"] },
);
