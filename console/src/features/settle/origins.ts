/** Where each line of a merged text comes from; pure. */
import { aligned } from "./aligned";

export type Origin = "both" | "base" | "target" | "source" | "new" | "gone";

export interface OriginLine {
  line: number | null;
  text: string;
  origin: Origin;
  /** Who removed a line of the base. */
  by?: "target" | "source" | "both";
  /** Within three lines of one that differs. */
  near: boolean;
}

const CONTEXT = 3;

const linesOf = (text: string) => text.split(/\r\n|\r|\n/);

export function originsOf(base: string, target: string, source: string, result: string): OriginLine[] {
  const [b, t, o, r] = [base, target, source, result].map(linesOf) as [string[], string[], string[], string[]];
  const at = (side: string[]) => new Map(aligned(side, r).map(([i, j]) => [j, i]));
  const [inBase, inTarget, inSource] = [at(b), at(t), at(o)];
  const [keptHere, keptThere] = [t, o].map((side) => new Set(aligned(b, side).map(([i]) => i))) as [Set<number>, Set<number>];
  const rows: OriginLine[] = [];
  let last = -1;
  const gone = (until: number) => {
    for (let k = last + 1; k < until; k++) {
      const by = !keptHere.has(k) && !keptThere.has(k) ? "both" : keptHere.has(k) ? "source" : "target";
      rows.push({ line: null, text: b[k] ?? "", origin: "gone", by, near: false });
    }
  };
  // What was taken out stands before what was put in its place.
  const next: number[] = [];
  for (let j = r.length - 1, following = b.length; j >= 0; j--) next[j] = following = inBase.get(j) ?? following;
  r.forEach((text, j) => {
    const from = inBase.get(j);
    gone(next[j] ?? b.length);
    last = from ?? Math.max(last, (next[j] ?? b.length) - 1);
    const origin: Origin =
      from !== undefined
        ? "base"
        : inTarget.has(j) && inSource.has(j)
          ? "both"
          : inTarget.has(j)
            ? "target"
            : inSource.has(j)
              ? "source"
              : "new";
    rows.push({ line: j + 1, text, origin, near: false });
  });
  gone(b.length);
  rows.forEach((row, n) => {
    if (row.origin !== "base")
      for (let k = Math.max(0, n - CONTEXT); k <= Math.min(rows.length - 1, n + CONTEXT); k++) (rows[k] as OriginLine).near = true;
  });
  return rows;
}
