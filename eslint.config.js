import js from "@eslint/js";
import globals from "globals";

export default [
  js.configs.recommended,
  {
    files: ["frontend/**/*.js"],
    languageOptions: { globals: globals.browser },
    rules: {
      eqeqeq: ["error", "always", { null: "ignore" }],
      "no-var": "error",
      "prefer-const": "error",
      "no-else-return": "error",
      "no-shadow": "error",
      complexity: ["error", 15],
    },
  },
  {
    files: ["frontend/**/*.mjs", "tests/frontend/**/*.js"],
    languageOptions: { globals: { ...globals.node, ...globals.browser } },
  },
];
