/** Shaping findings for display; pure functions. */
import type { Finding } from "../../api/queries";
import { value } from "../../marks/words";

export function byType(findings: Finding[]): [string, Finding[]][] {
  const groups = new Map<string, Finding[]>();
  for (const f of findings) groups.set(f.type, [...(groups.get(f.type) ?? []), f]);
  return [...groups];
}

export function plural(type: string, n: number): string {
  if (n === 1) return type;
  if (/[^aeiou]y$/.test(type)) return `${type.slice(0, -1)}ies`;
  return /(s|x|ch|sh)$/.test(type) ? type : `${type}s`;
}

/** What a finding says, as a lead-in and the two values. */
export function told(f: Finding): { lead: string; before: string | null; after: string | null } {
  const lead = f.detail === "leads to" || f.detail === "comes from" ? f.detail : (f.field ?? "");
  const whole = f.type === "rows" ? f.action : `${f.type} ${f.action}`; // their label says how many rows
  if (f.action === "added" && !f.field) return { lead: whole, before: null, after: held(f.after) };
  if (f.action === "removed" && !f.field) return { lead: whole, before: held(f.before), after: null };
  if (f.action === "moved" || f.action === "renamed") return { lead: f.action, before: value(f.before), after: value(f.after) };
  if (f.before === null && f.after === null) return { lead: f.detail ?? f.action, before: null, after: null };
  return { lead, before: value(f.before), after: value(f.after) };
}

/** What an added or removed part holds beside its name; null if that is nothing. */
function held(v: unknown): string | null {
  return v === null || v === undefined || value(v) === "" ? null : value(v);
}

export interface Line {
  kind: "same" | "old" | "new" | "changed" | "gap";
  left: string | null;
  right: string | null;
  leftNumber: number | null;
  rightNumber: number | null;
}

/** Two texts side by side: equal lines level with each other, replaced ones beside what replaced them. */
export function sideBySide(before: string, after: string, context = 4): Line[] {
  const a = before.split(/\r\n|\r|\n/);
  const b = after.split(/\r\n|\r|\n/);
  const rows = rowsOf(a, b, aligned(a, b));
  return folded(rows, context);
}

function rowsOf(a: string[], b: string[], pairs: [number, number][]): Line[] {
  const rows: Line[] = [];
  let i = 0;
  let j = 0;
  for (const [x, y] of [...pairs, [a.length, b.length] as [number, number]]) {
    while (i < x || j < y) {
      const left = i < x ? i++ : null;
      const right = j < y ? j++ : null;
      rows.push({
        kind: left !== null && right !== null ? (a[left] === b[right] ? "same" : "changed") : left !== null ? "old" : "new",
        left: left === null ? null : (a[left] ?? ""),
        right: right === null ? null : (b[right] ?? ""),
        leftNumber: left === null ? null : left + 1,
        rightNumber: right === null ? null : right + 1,
      });
    }
    if (x < a.length && y < b.length) {
      rows.push({ kind: "same", left: a[x] ?? "", right: b[y] ?? "", leftNumber: x + 1, rightNumber: y + 1 });
      i = x + 1;
      j = y + 1;
    }
  }
  return rows;
}

/** Equal lines by common ends and by lines that occur once on both sides (a longest increasing run of them). */
export function aligned(a: string[], b: string[]): [number, number][] {
  const result: [number, number][] = [];
  const walk = (a0: number, a1: number, b0: number, b1: number): void => {
    while (a0 < a1 && b0 < b1 && a[a0] === b[b0]) result.push([a0++, b0++]);
    const tail: [number, number][] = [];
    while (a0 < a1 && b0 < b1 && a[a1 - 1] === b[b1 - 1]) tail.push([--a1, --b1]);
    const run = anchors(a, b, a0, a1, b0, b1);
    if (run.length) {
      let x = a0;
      let y = b0;
      for (const [p, q] of run) {
        walk(x, p, y, q);
        result.push([p, q]);
        x = p + 1;
        y = q + 1;
      }
      walk(x, a1, y, b1);
    }
    result.push(...tail.reverse());
  };
  walk(0, a.length, 0, b.length);
  return result.sort((x, y) => x[0] - y[0]);
}

function anchors(a: string[], b: string[], a0: number, a1: number, b0: number, b1: number): [number, number][] {
  const once = (list: string[], from: number, until: number) => {
    const places = new Map<string, number>();
    for (let i = from; i < until; i++) {
      const line = list[i] ?? "";
      places.set(line, places.has(line) ? -1 : i);
    }
    return places;
  };
  const inB = once(b, b0, b1);
  const pairs = [...once(a, a0, a1)]
    .filter(([line, i]) => i >= 0 && (inB.get(line) ?? -1) >= 0)
    .map(([line, i]) => [i, inB.get(line) ?? 0] as [number, number]);
  pairs.sort((x, y) => x[0] - y[0]);
  const tails: number[] = [];
  const back: number[] = [];
  pairs.forEach(([, j], k) => {
    let low = 0;
    let high = tails.length;
    while (low < high) {
      const mid = (low + high) >> 1;
      if ((pairs[tails[mid] ?? 0]?.[1] ?? 0) < j) low = mid + 1;
      else high = mid;
    }
    back[k] = low > 0 ? (tails[low - 1] ?? -1) : -1;
    tails[low] = k;
  });
  const run: [number, number][] = [];
  for (let k = tails.at(-1) ?? -1; k >= 0; k = back[k] ?? -1) {
    const pair = pairs[k];
    if (pair) run.push(pair);
  }
  return run.reverse();
}

function folded(rows: Line[], context: number): Line[] {
  const near = rows.map(() => false);
  rows.forEach((row, i) => {
    if (row.kind !== "same") for (let k = Math.max(0, i - context); k <= Math.min(rows.length - 1, i + context); k++) near[k] = true;
  });
  const out: Line[] = [];
  let hidden = 0;
  const close = () => {
    if (hidden) out.push({ kind: "gap", left: `${hidden} equal lines`, right: "", leftNumber: null, rightNumber: null });
    hidden = 0;
  };
  rows.forEach((row, i) => {
    if (!near[i]) {
      hidden += 1;
      return;
    }
    close();
    out.push(row);
  });
  close();
  return out;
}
