import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The page shell is the server's: it reads the manifest and gives each response its nonce.
export default defineConfig({
  base: "/static/",
  // Compiled, a component is not made again where nothing it shows has changed: a level that is dragged changes its figures.
  plugins: [react({ compiler: true })],
  // Classes of a module keep their names, so that the page can be read in the inspector; a test keeps them unique.
  css: { modules: { generateScopedName: "[local]", localsConvention: "camelCaseOnly" } },
  build: {
    manifest: true,
    outDir: "dist",
    emptyOutDir: true,
    target: "es2022",
    // The largest, React and the controls, is 126 kB as it is sent.
    chunkSizeWarningLimit: 600,
    modulePreload: { polyfill: false },
    // Fonts and pictures stay files: the policy allows no data: fonts.
    assetsInlineLimit: 0,
    rollupOptions: { input: "src/main.tsx" },
  },
});
