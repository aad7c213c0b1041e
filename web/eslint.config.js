import js from "@eslint/js";
import { createTypeScriptImportResolver } from "eslint-import-resolver-typescript";
import { importX } from "eslint-plugin-import-x";
import a11y from "eslint-plugin-jsx-a11y";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["dist", "node_modules", "src/api/schema.ts"] },
  js.configs.recommended,
  a11y.flatConfigs.recommended,
  ...ts.configs.strict,
  {
    plugins: { "react-hooks": hooks, "import-x": importX },
    settings: { "import-x/resolver-next": [createTypeScriptImportResolver({ project: "tsconfig.json" })] },
    rules: {
      "react-hooks/rules-of-hooks": "error",
      "react-hooks/exhaustive-deps": "error",
      "import-x/no-cycle": "error",
      // A canvas is a picture here; creators' own clips have no captions.
      "jsx-a11y/no-interactive-element-to-noninteractive-role": ["error", { canvas: ["img"] }],
      "jsx-a11y/media-has-caption": "off",
      // A field that was asked for by a button is where one goes on.
      "jsx-a11y/no-autofocus": "off",
      "@typescript-eslint/no-non-null-assertion": "off",
    },
  },
);
