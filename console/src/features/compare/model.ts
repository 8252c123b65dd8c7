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
