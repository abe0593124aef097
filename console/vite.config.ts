import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: {
    target: "es2022",
    assetsInlineLimit: 0, // a strict content policy takes no data: fonts
    rollupOptions: { output: { manualChunks: undefined } },
  },
  server: { proxy: { "/api": "http://127.0.0.1:7420" } },
  test: {
    environment: "jsdom",
    globals: false,
    setupFiles: ["src/testing/setup.ts"],
    testTimeout: 30_000,
    isolate: false,
  },
});
