/** Which words of two texts differ; pure functions. */

export interface Piece {
  text: string;
  /** True for what only this side has. */
  own: boolean;
}

const MOST_CELLS = 250_000;

/** Both texts in pieces; what both share stands unmarked. A text with hardly a word in common is marked whole. */
export function wordPieces(before: string, after: string): [Piece[], Piece[]] {
  const a = tokens(before);
  const b = tokens(after);
  const whole: [Piece[], Piece[]] = [[{ text: before, own: true }], [{ text: after, own: true }]];
  if (a.length < 3 || b.length < 3) return whole;
  const pairs = joined(a, shared(a, b));
  const words = (list: string[]) => list.filter((t) => /\w/u.test(t)).length;
  const kept = pairs.filter(([i]) => /\w/u.test(a[i] ?? "")).length;
  if (kept * 4 < Math.max(words(a), words(b))) return whole;
  return [pieces(a, new Set(pairs.map(([i]) => i))), pieces(b, new Set(pairs.map(([, j]) => j)))];
}

export interface InlinePiece {
  text: string;
  side: "both" | "before" | "after";
}

/** Both texts as one: what they share once, and at each difference first what went, then what came. */
export function inlinePieces(before: string, after: string): InlinePiece[] {
  const [old, now] = wordPieces(before, after);
  const out: InlinePiece[] = [];
  let k = 0;
  for (const piece of old) {
    if (piece.own) {
      out.push({ text: piece.text, side: "before" });
      continue;
    }
    let left = piece.text;
    while (left) {
      const next = now[k];
      if (!next) return [...out, { text: left, side: "both" }];
      if (next.own) {
        out.push({ text: next.text, side: "after" });
        k++;
      } else {
        const taken = left.startsWith(next.text) ? next.text : left;
        out.push({ text: taken, side: "both" });
        left = left.slice(taken.length);
        if (taken === next.text) k++;
        else now[k] = { ...next, text: next.text.slice(taken.length) };
      }
    }
  }
  return [...out, ...now.slice(k).map((p): InlinePiece => ({ text: p.text, side: p.own ? "after" : "both" }))];
}

function tokens(text: string): string[] {
  return text.match(/[\p{L}\p{N}_]+(?:[.,][\p{N}]+)?|\s+|[^\p{L}\p{N}_\s]/gu) ?? [];
}

/** A longest common subsequence of tokens; of very long texts only their common ends. */
function shared(a: string[], b: string[]): [number, number][] {
  let start = 0;
  while (start < a.length && start < b.length && a[start] === b[start]) start++;
  let endA = a.length;
  let endB = b.length;
  while (endA > start && endB > start && a[endA - 1] === b[endB - 1]) {
    endA--;
    endB--;
  }
  const pairs: [number, number][] = [];
  for (let i = 0; i < start; i++) pairs.push([i, i]);
  const rows = endA - start;
  const columns = endB - start;
  if (rows * columns <= MOST_CELLS && rows > 0 && columns > 0) {
    const width = columns + 1;
    const lengths = new Uint16Array((rows + 1) * width);
    const from = (i: number, j: number) => lengths[i * width + j] ?? 0;
    for (let i = rows - 1; i >= 0; i--)
      for (let j = columns - 1; j >= 0; j--)
        lengths[i * width + j] = a[start + i] === b[start + j] ? from(i + 1, j + 1) + 1 : Math.max(from(i + 1, j), from(i, j + 1));
    for (let i = 0, j = 0; i < rows && j < columns; ) {
      if (a[start + i] === b[start + j]) pairs.push([start + i++, start + j++]);
      else if (from(i + 1, j) >= from(i, j + 1)) i++;
      else j++;
    }
  }
  for (let k = 0; k < a.length - endA; k++) pairs.push([endA + k, endB + k]);
  return pairs;
}

/** The pairs without blanks that have no shared word beside them: they are marked with the words around them. */
function joined(a: string[], pairs: [number, number][]): [number, number][] {
  return pairs.filter(([i, j], k) => {
    if (!/^\s+$/.test(a[i] ?? "")) return true;
    const [before, after] = [pairs[k - 1], pairs[k + 1]];
    const alone = (side: 0 | 1, at: number) => before?.[side] !== at - 1 && after?.[side] !== at + 1;
    return !(alone(0, i) && alone(1, j));
  });
}

/** Runs of marked and unmarked tokens. */
function pieces(list: string[], kept: Set<number>): Piece[] {
  const out: Piece[] = [];
  list.forEach((text, i) => {
    const own = !kept.has(i);
    const last = out.at(-1);
    if (last && last.own === own) last.text += text;
    else out.push({ text, own });
  });
  return out;
}
