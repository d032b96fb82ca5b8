/// <reference types="vitest/config" />
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react()],
  html: { cspNonce: "nonce-of-the-answer" }, // console.go puts one in its place
  build: {
    emptyOutDir: false, // dist/.keep is what the Go package embeds before the first build
    chunkSizeWarningLimit: 1600,
    reportCompressedSize: false,
  },
  test: { environment: "jsdom", setupFiles: "src/test/setup.ts", testTimeout: 120_000 },
  server: { proxy: { "/api": { target: "https://127.0.0.1:7460", secure: false } } },
});
