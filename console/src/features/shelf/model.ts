/** Narrowing and sorting the list; pure functions. */
import { csvCell } from "../../marks/csv";
import type { Artifact } from "../../api/queries";

export const COLUMNS: [string, string, (a: Artifact) => string | number][] = [
  ["kind", "Kind", (a) => a.kind],
  ["name", "Artifact", (a) => a.path],
  ["version", "Version", (a) => a.version ?? 0],
  ["summary", "Last commit", (a) => a.summary],
  ["who", "Who", (a) => a.author],
  ["when", "When", (a) => a.recorded ?? ""],
  ["size", "Size", (a) => a.size],
  ["effect", "Effect of last change", (a) => `${EFFECT_RANK[a.effect] ?? 3}${a.headline}`],
];
const EFFECT_RANK: Record<string, number> = { breaks: 0, alters: 1, cosmetic: 2 };

export function kindsOf(all: Artifact[]): [string, number][] {
  const counts = new Map<string, number>();
  for (const a of all) counts.set(a.kind, (counts.get(a.kind) ?? 0) + 1);
  return [...counts].sort((a, b) => b[1] - a[1] || a[0].localeCompare(b[0]));
}

export function arranged(all: Artifact[], by: { kind: string; typed: string; sort: string }): Artifact[] {
  const words = by.typed.toLowerCase().split(/\s+/).filter(Boolean);
  const kept = all.filter((a) => {
    const text = `${a.path} ${a.name} ${a.summary} ${a.author}`.toLowerCase();
    return (!by.kind || a.kind === by.kind) && words.every((w) => text.includes(w));
  });
  const down = by.sort.startsWith("-");
  const value = COLUMNS.find(([id]) => id === by.sort.replace("-", ""))?.[2] ?? ((a: Artifact) => a.path);
  return kept.sort((a, b) => {
    const x = value(a);
    const y = value(b);
    const order = typeof x === "number" && typeof y === "number" ? x - y : String(x).localeCompare(String(y));
    return (down ? -order : order) || a.path.localeCompare(b.path);
  });
}

export function csvOf(rows: Artifact[], raw: boolean): string {
  const head = ["path", "kind", "version", "summary", "author", "recorded", "size_bytes", "effect", "headline"];
  const lines = rows.map((a) => [a.path, a.kind, a.version, a.summary, a.author, a.recorded, a.size, a.effect, a.headline].map((v) => csvCell(v, raw)).join(","));
  return [head.join(","), ...lines].join("\r\n");
}
