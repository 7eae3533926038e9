import js from "@eslint/js";
import globals from "globals";

export default [
  js.configs.recommended,
  {
    files: ["src/drovik/reporting/page/scripts/*.js"],
    languageOptions: { globals: globals.browser },
    rules: {
      curly: "error",
      eqeqeq: "error",
      "max-lines-per-function": ["error", 60],
      "no-control-regex": "off",
      "no-eval": "error",
      "no-implied-eval": "error",
      "no-var": "error",
      "prefer-const": "error",
    },
  },
];
