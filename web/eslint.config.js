import prettier from "eslint-config-prettier";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["dist", "src/api/schema.d.ts"] },
  ...ts.configs.strict,
  hooks.configs.flat["recommended-latest"],
  prettier,
  { rules: { "@typescript-eslint/no-non-null-assertion": "error" } },
);
