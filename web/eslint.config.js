import prettier from "eslint-config-prettier";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

/** Each folder stands on those before it, and knows none after it. */
const LAYERS = ["api", "ui", "plot", "lanes", "steps", "frame"];

const layers = LAYERS.map((name, place) => ({
  files: [`src/${name}/**`],
  rules: {
    "no-restricted-imports": [
      "error",
      {
        patterns: LAYERS.slice(place + 1).map((above) => ({
          regex: `^(\\.\\./)+${above}(/|$)`,
          message: `${name} stands below ${above} and knows nothing of it.`,
        })),
      },
    ],
  },
}));

export default ts.config(
  { ignores: ["dist", "src/api/schema.d.ts"] },
  ...ts.configs.strict,
  hooks.configs.flat["recommended-latest"],
  prettier,
  { rules: { "@typescript-eslint/no-non-null-assertion": "error" } },
  ...layers,
);
