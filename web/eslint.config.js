import js from "@eslint/js";
import { createTypeScriptImportResolver } from "eslint-import-resolver-typescript";
import { importX } from "eslint-plugin-import-x";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["dist", "node_modules", "src/api/schema.ts"] },
  js.configs.recommended,
  ...ts.configs.strict,
  {
    plugins: { "react-hooks": hooks, "import-x": importX },
    settings: { "import-x/resolver-next": [createTypeScriptImportResolver({ project: "tsconfig.json" })] },
    rules: {
      "react-hooks/rules-of-hooks": "error",
      "react-hooks/exhaustive-deps": "error",
      "import-x/no-cycle": "error",
      "@typescript-eslint/no-non-null-assertion": "off",
    },
  },
);
