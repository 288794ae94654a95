import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react()],
  // The server puts a fresh nonce in place of this mark with every page.
  html: { cspNonce: "__IVRELL_NONCE__" },
  build: {
    // Into the package, which serves it wherever it is installed.
    outDir: "../src/ivrell/web",
    emptyOutDir: true,
    manifest: true,
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 1200,
    rolldownOptions: {
      output: {
        codeSplitting: {
          // Left to itself the bundler puts what all pages need into the editor's file, and then
          // every page waits for the editor.
          groups: [
            { name: "react", test: /node_modules\/(react|react-dom|scheduler)\//, priority: 2 },
            { name: "editor", test: /node_modules\/(@?codemirror|@lezer|@marijn|crelt|style-mod|w3c-keyname)\b/, priority: 1 },
          ],
        },
      },
    },
  },
});
