import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

/** Shared by so many parts that are fetched by themselves, a module is needed by nearly every page. */
const MOST_PAGES = 12;
/** What runs before the rest is there has a file of its own. */
const BEGIN = /src\/(api\/(ahead|query)|pages)\.ts$/;

/** The page names the large files itself, so that they are fetched while the first, small one is read. */
const namedInThePage: Plugin = {
  name: "named-in-the-page",
  transformIndexHtml: {
    order: "post",
    handler: (_, { bundle }) =>
      Object.values(bundle ?? {})
        .filter((file) => ["main", "common"].includes(file.name ?? ""))
        .map(({ fileName }) => ({
          tag: "link",
          attrs: { rel: "modulepreload", crossorigin: true, href: `/${fileName}` },
          injectTo: "head",
        })),
  },
};

// The service serves the built files itself, from inside the Python package.
export default defineConfig({
  plugins: [react(), namedInThePage],
  build: {
    outDir: "../src/everyshelf/service/web/console",
    emptyOutDir: true,
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 1600,
    rolldownOptions: {
      output: {
        // What most pages need is one file: a first load asks for a few files, not for forty.
        codeSplitting: {
          groups: [
            { name: "ahead", test: BEGIN, priority: 2 },
            { name: "common", minShareCount: MOST_PAGES, priority: 1 },
          ],
        },
      },
    },
  },
});
