import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { fileURLToPath } from "node:url";
import { defineConfig } from "vite";

// Nothing is inlined: the policy of the service lets fonts come from files alone.
// The service serves dist/; while developing, `npm run dev` passes /api on to a service.
export default defineConfig({
  plugins: [react(), tailwindcss()],
  resolve: { alias: { "@rjsf/validator-ajv8": fileURLToPath(new URL("src/none.ts", import.meta.url)) } },
  build: { target: "es2023", chunkSizeWarningLimit: 900, modulePreload: { polyfill: false }, emptyOutDir: true, assetsInlineLimit: 0 },
  server: { proxy: { "/api": { target: process.env.STONEBATON_URL ?? "http://127.0.0.1:7117", changeOrigin: true } } },
});
