import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync } from "node:zlib";
import tailwindcss from "@tailwindcss/vite";
import vue from "@vitejs/plugin-vue";
import { defineConfig } from "vitest/config";

// `npm run dev` serves the console beside a running service, whose calls it
// passes on.
const service = process.env.VADEGATE_ADDRESS ?? "http://127.0.0.1:7411";

/** Packs what was built, so that the service need not do it at each call. */
const packed = {
  name: "packed",
  apply: "build" as const,
  closeBundle() {
    for (const name of readdirSync("dist", { recursive: true, encoding: "utf8" })) {
      if (!/\.(js|css|svg)$/.test(name)) continue;
      const file = join("dist", name);
      const bytes = readFileSync(file);
      const small = brotliCompressSync(bytes);
      if (small.length < bytes.length) writeFileSync(`${file}.br`, small);
    }
  },
};

export default defineConfig({
  plugins: [vue(), tailwindcss(), packed],
  build: { target: "es2022", chunkSizeWarningLimit: 700 },
  server: { proxy: { "/api": service } },
  // Files share their worker: a page of its own for each would cost more than all the tests.
  test: { environment: "node", include: ["src/**/*.test.ts"], isolate: false, setupFiles: ["src/testing/setup.ts"] },
});
