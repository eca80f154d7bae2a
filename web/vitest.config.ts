import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react({ compiler: true })],
  // Files share one window: making one for each took three times as long as the tests themselves.
  test: {
    environment: "jsdom",
    isolate: false,
    setupFiles: ["src/test/setup.ts"],
    css: false,
    restoreMocks: true,
    // The other tests run beside these; a test that hangs still fails.
    testTimeout: 120_000,
  },
});
