/** Random texts that are the same in every run. */

/** A generator of numbers from 0 (included) to 1, by Marsaglia's xorshift of 32 bits (Journal of Statistical Software 8, 2003). */
export function numbers(seed: number): () => number {
  let state = seed | 1;
  return () => {
    state ^= state << 13;
    state ^= state >>> 17;
    state ^= state << 5;
    return (state >>> 0) / 2 ** 32;
  };
}

/** `count` lines from few different ones, so that many repeat. */
export function lines(next: () => number, count: number): string[] {
  return Array.from({ length: count }, () => `line ${Math.floor(next() * 12)}`);
}

/** The lines with some removed, changed and added. */
export function edited(next: () => number, list: string[]): string[] {
  return list.flatMap((line) => {
    const chance = next();
    if (chance < 0.1) return [];
    if (chance < 0.2) return [`${line}, changed`];
    return chance < 0.3 ? [line, "a new line"] : [line];
  });
}
