/** Differences of two texts by whole words: of 30 and 20 both are marked, not a 3 and a 2; pure. */

/** A stretch of one text that stands in place of a stretch of the other. */
export interface Stretch {
  fromA: number;
  toA: number;
  fromB: number;
  toB: number;
}

const WORD = /[\p{L}\p{N}_]/u;
const inWord = (text: string, at: number) => WORD.test(text[at] ?? "");

/** Each stretch grown to the ends of the words it begins and ends in, on both sides, and joined with the next where they
 * meet. Between two stretches both texts are the same, so both grow by the same characters. */
export function wholeWords(a: string, b: string, stretches: readonly Stretch[]): Stretch[] {
  const out: Stretch[] = [];
  stretches.forEach((one, n) => {
    const before = out.at(-1);
    const next = stretches[n + 1];
    let { fromA, toA, fromB, toB } = one;
    const cutsWord = (text: string, at: number) => inWord(text, at - 1) && inWord(text, at);
    while (fromA > (before?.toA ?? 0) && fromB > (before?.toB ?? 0) && (cutsWord(a, fromA) || cutsWord(b, fromB))) {
      fromA--;
      fromB--;
    }
    const [endA, endB] = [next?.fromA ?? a.length, next?.fromB ?? b.length];
    while (toA < endA && toB < endB && (cutsWord(a, toA) || cutsWord(b, toB))) {
      toA++;
      toB++;
    }
    if (before && (fromA <= before.toA || fromB <= before.toB)) Object.assign(before, { toA, toB });
    else out.push({ fromA, toA, fromB, toB });
  });
  return out;
}
