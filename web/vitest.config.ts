import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react()],
  resolve: { alias: { "~": new URL("./src", import.meta.url).pathname } },
  test: { environment: "happy-dom", include: ["tests/**/*.test.{ts,tsx}"], restoreMocks: true },
});
