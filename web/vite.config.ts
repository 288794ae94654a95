import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react()],
  // The server puts a fresh nonce in place of this mark with every page.
  html: { cspNonce: "__IVRELL_NONCE__" },
  build: { manifest: true, assetsInlineLimit: 0, chunkSizeWarningLimit: 1200 },
});
