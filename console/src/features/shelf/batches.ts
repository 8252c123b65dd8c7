/** Files in calls that are neither many nor large; pure. */

/** How many files one call may hold, and their bytes together; a larger file goes by itself. */
export const MOST_FILES = 200;
export const MOST_BYTES = 2 * 1024 * 1024;

/** The files in order, in batches for one call each. */
export function batchesOf<T extends { size: number }>(files: T[]): T[][] {
  const out: T[][] = [];
  let bytes = 0;
  for (const file of files) {
    const last = out.at(-1);
    if (last && last.length < MOST_FILES && bytes + file.size <= MOST_BYTES) last.push(file);
    else {
      out.push([file]);
      bytes = 0;
    }
    bytes += file.size;
  }
  return out;
}
