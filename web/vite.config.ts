import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

// In development the API is the one that `./herald start` runs.
export default defineConfig({
  plugins: [react(), tailwindcss()],
  resolve: { alias: { "@": "/src" } },
  build: { outDir: "dist", chunkSizeWarningLimit: 900 },
  server: { proxy: { "/api": "http://127.0.0.1:8000", "/static": "http://127.0.0.1:8000" } },
  test: { include: ["src/**/*.test.ts"] },
});
