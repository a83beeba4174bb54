import hooks from "eslint-plugin-react-hooks";
import { parser } from "typescript-eslint";

// What the compiler does not see: hooks that are called now and then, and effects that miss a change.
export default [
  {
    files: ["src/**/*.{ts,tsx}"],
    languageOptions: { parser },
    plugins: { "react-hooks": hooks },
    rules: { "react-hooks/rules-of-hooks": "error", "react-hooks/exhaustive-deps": "error" },
  },
];
