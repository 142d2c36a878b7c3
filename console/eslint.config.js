import hooks from "eslint-plugin-react-hooks";
import typescript from "typescript-eslint";

export default typescript.config(
  { ignores: ["dist", "src/schema.d.ts", "vite.config.ts", "eslint.config.js"] },
  ...typescript.configs.recommended,
  hooks.configs.flat.recommended,
  {
    rules: {
      "@typescript-eslint/no-non-null-assertion": "off",
      "@typescript-eslint/no-unused-expressions": ["error", { allowTernary: true }],
    },
  },
);
