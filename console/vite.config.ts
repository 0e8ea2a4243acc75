import tailwindcss from "@tailwindcss/vite";
import vue from "@vitejs/plugin-vue";
import { defineConfig } from "vitest/config";

// `npm run dev` serves the console beside a running service, whose calls it
// passes on.
const service = process.env.VADEGATE_ADDRESS ?? "http://127.0.0.1:7411";

export default defineConfig({
  plugins: [vue(), tailwindcss()],
  build: { target: "es2022", chunkSizeWarningLimit: 700 },
  server: { proxy: { "/api": service } },
  test: { environment: "node", include: ["src/**/*.test.ts"] },
});
