import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The service serves the built files itself, from inside the Python package.
export default defineConfig({
  plugins: [react()],
  build: {
    outDir: "../src/everyshelf/service/web/console",
    emptyOutDir: true,
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 1600,
  },
});
