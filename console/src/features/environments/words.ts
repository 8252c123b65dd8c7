import type { Environment } from "../../api/queries";

/** What an environment asks for before a tag goes there. */
export function gateWords(e: Environment): string[] {
  const g = e.gates;
  return [
    e.fed_from && `from ${e.fed_from}`,
    g.guarded && "from a guarded branch",
    e.earlier_first && "earlier environment first",
    g.reviews ? `${g.reviews} review${g.reviews === 1 ? "" : "s"} of others` : "",
    ...(g.checks ?? []).map((c) => `check ${c}`),
    ...(g.quiet ?? []).map((h) => `not ${h.from} to ${h.to}${h.days?.length ? ` on ${h.days.join(", ")}` : ""}`),
    g.drift && "no drift",
  ].filter(Boolean) as string[];
}
