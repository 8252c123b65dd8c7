/** A compared table's parts, and pure functions that shape them for display. */
import type { Schemas } from "../../api/client";
import { group } from "../../marks/words";

export type Side = Schemas["ColumnValues"];
export type Profile = Schemas["ColumnProfile"];
export type Row = Schemas["DifferingRow"];
export type ComparedTable = Schemas["TableAnswer"];
export type Became = "same" | "added" | "removed" | "changed" | "moved";

/** One column of the page: where it is in the cells of either side, and what became of it. */
export interface Lane {
  name: string;
  was: string;
  type: string;
  oldType: string;
  oldAt: number;
  newAt: number;
  became: Became;
  isKey: boolean;
  /** True for the first column of the key, which stays in sight. */
  leads: boolean;
}

/** The newer table's columns in their order, removed ones after their old neighbour. */
export function lanes(table: ComparedTable): Lane[] {
  const { before, after } = table.schema;
  const renamed = new Map(table.columns.renamed.map(([old, now]) => [now, old]));
  const retyped = new Set([...table.columns.retyped, ...table.columns.widened, ...table.columns.narrowed]);
  const added = new Set(table.columns.added);
  const result: Lane[] = after.map((c, newAt) => {
    const was = renamed.get(c.name) ?? c.name;
    const oldAt = added.has(c.name) ? -1 : before.findIndex((b) => b.name === was);
    const became: Became = oldAt < 0 ? "added" : was !== c.name ? "moved" : retyped.has(c.name) ? "changed" : "same";
    return {
      name: c.name,
      was,
      type: c.type,
      oldType: before[oldAt]?.type ?? "",
      oldAt,
      newAt,
      became,
      isKey: table.key.includes(c.name),
      leads: table.key[0] === c.name,
    };
  });
  for (const name of table.columns.removed) {
    const oldAt = before.findIndex((b) => b.name === name);
    const neighbour = before[oldAt - 1]?.name;
    const at = result.findIndex((l) => l.was === neighbour) + 1;
    const type = before[oldAt]?.type ?? "";
    result.splice(at, 0, {
      name,
      was: name,
      type,
      oldType: type,
      oldAt,
      newAt: -1,
      became: "removed",
      isKey: false,
      leads: false,
    });
  }
  return result;
}

/** The one figure that stands for a column's values, before and after. */
export function figure(profile: Profile): { what: string; before: string; after: string } {
  const { before, after, type } = profile;
  const told = (what: string, of: (s: Side) => string) => ({
    what,
    before: before ? of(before) : "",
    after: after ? of(after) : "",
  });
  const unique = [before, after].every((s) => !s || s.distinct === s.rows - s.nulls);
  const numbers = [before, after].every((s) => !s || s.numbers);
  if (!numbers || (type.startsWith("int") && unique)) return told("distinct", (s) => (s.sampled ? "≈ " : "") + group(s.distinct));
  if (profile.is_time) return told("until", (s) => (s.numbers ? moment(s.numbers.greatest, type) : ""));
  return told("mean", (s) => (s.numbers && s.numbers.mean !== null ? short(s.numbers.mean) : ""));
}

/** A number in about four digits. */
export function short(n: number): string {
  const size = Math.abs(n);
  if (size >= 1e15 || (size > 0 && size < 1e-4)) return n.toExponential(2);
  if (size >= 10_000) return group(Math.round(n));
  return String(Number(n.toPrecision(4)));
}

function moment(seconds: number, type: string): string {
  const date = new Date(seconds * 1000);
  if (Number.isNaN(date.getTime())) return "";
  if (type === "time") return date.toISOString().slice(11, 16);
  const day = date.toLocaleDateString("en-GB", { day: "numeric", month: "short", year: "numeric", timeZone: "UTC" });
  return type === "date" ? day : `${day} ${date.toISOString().slice(11, 16)}`;
}

/** How many rows of the newer table lie between two that differ, and are the same. */
export function sameBetween(one: Row, next: Row): number {
  const a = one.rows[1];
  const b = next.rows[1];
  return a === null || b === null ? 0 : Math.max(0, b - a - 1);
}

export function isNumber(type: string): boolean {
  return /^(unsigned |u?int\d*\b|integer|hugeint|bigint|smallint|tinyint|decimal|real|double|float|numeric)/.test(type);
}
