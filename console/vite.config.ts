import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react()],
  build: {
    emptyOutDir: false, // dist/.keep is what the Go package embeds before the first build
    chunkSizeWarningLimit: 1600,
    reportCompressedSize: false,
  },
  server: { proxy: { "/api": "http://127.0.0.1:7460" } },
});
