/** After a build: every text file of it also compressed, so that the service sends it as it is. */
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, constants, gzipSync } from "node:zlib";

const built = new URL("../src/everyshelf/service/web/console", import.meta.url).pathname;
for (const name of readdirSync(built, { recursive: true })) {
  if (!/\.(js|css|html|svg)$/.test(name)) continue;
  const file = join(built, name);
  const bytes = readFileSync(file);
  if (bytes.length < 1000) continue;
  writeFileSync(`${file}.gz`, gzipSync(bytes, { level: 9 }));
  writeFileSync(
    `${file}.br`,
    brotliCompressSync(bytes, {
      params: { [constants.BROTLI_PARAM_QUALITY]: 11, [constants.BROTLI_PARAM_SIZE_HINT]: bytes.length },
    }),
  );
}
