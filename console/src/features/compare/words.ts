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
  const pairs = shared(a, b);
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
    const length = Array.from({ length: rows + 1 }, () => new Uint16Array(columns + 1));
    for (let i = rows - 1; i >= 0; i--)
      for (let j = columns - 1; j >= 0; j--)
        length[i]![j] = a[start + i] === b[start + j] ? length[i + 1]![j + 1]! + 1 : Math.max(length[i + 1]![j]!, length[i]![j + 1]!);
    for (let i = 0, j = 0; i < rows && j < columns; ) {
      if (a[start + i] === b[start + j]) pairs.push([start + i++, start + j++]);
      else if (length[i + 1]![j]! >= length[i]![j + 1]!) i++;
      else j++;
    }
  }
  for (let k = 0; k < a.length - endA; k++) pairs.push([endA + k, endB + k]);
  return pairs;
}

/** Runs of marked and unmarked tokens; a blank between two marked words is marked with them. */
function pieces(list: string[], kept: Set<number>): Piece[] {
  const out: Piece[] = [];
  list.forEach((text, i) => {
    const between = /^\s+$/.test(text) && i > 0 && i < list.length - 1 && !kept.has(i - 1) && !kept.has(i + 1);
    const own = !kept.has(i) || between;
    const last = out.at(-1);
    if (last && last.own === own) last.text += text;
    else out.push({ text, own });
  });
  return out;
}
