import tailwindcss from "@tailwindcss/vite";
import vue from "@vitejs/plugin-vue";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [vue(), tailwindcss()],
  build: { target: "es2022", assetsInlineLimit: 0, chunkSizeWarningLimit: 600 },
  server: { proxy: { "/api": "http://127.0.0.1:7080" } },
  test: { environment: "happy-dom", setupFiles: ["src/testing/service.ts"], testTimeout: 60_000 },
});
