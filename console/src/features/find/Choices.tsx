/** What narrows the list, each with how many artifacts it leaves. */

import { KindIcon } from "../../marks/spines";
import { group } from "../../marks/words";
import { CheckField, OneOfAll } from "../../parts/CheckField";
import type { Filters, Found } from "./queries";

const DAYS = [
  ["", "any time"],
  ["1", "since yesterday"],
  ["7", "this week"],
  ["31", "this month"],
] as const;

export function Choices({ found, filters, onSet }: { found: Found; filters: Filters; onSet: (name: string, value: string) => void }) {
  const since = (days: string) => (days ? new Date(Date.now() - Number(days) * 86_400_000).toISOString().slice(0, 10) : "");
  return (
    <section className="sheet choices" aria-label="Filter">
      <div className="ph">
        <h2 className="h3">Filter</h2>
      </div>
      <Group title="Kind" name="kind" counts={found.by_kind} chosen={filters.kind} onSet={onSet} icon />
      <Group title="Who made the version" name="by" counts={found.by_person} chosen={filters.by} onSet={onSet} />
      <Group title="Label" name="label" counts={found.by_label} chosen={filters.label} onSet={onSet} />
      <fieldset>
        <legend>When</legend>
        {DAYS.map(([days, told]) => (
          <OneOfAll
            key={days}
            name="find-since"
            checked={(filters.since ?? "") === since(days)}
            onChange={() => onSet("since", since(days))}
          >
            {told}
          </OneOfAll>
        ))}
      </fieldset>
      <fieldset>
        <legend>In history</legend>
        <CheckField checked={filters.history === "true"} onChange={(e) => onSet("history", e.target.checked ? "true" : "")}>
          earlier versions too
        </CheckField>
      </fieldset>
    </section>
  );
}

interface Given {
  title: string;
  name: string;
  counts: Record<string, number>;
  chosen: string | undefined;
  icon?: boolean;
  onSet: (name: string, value: string) => void;
}

function Group({ title, name, counts, chosen, icon = false, onSet }: Given) {
  const entries = Object.entries(counts).sort((a, b) => b[1] - a[1]);
  if (chosen && !(chosen in counts)) entries.push([chosen, 0]);
  if (entries.length === 0) return null;
  return (
    <fieldset>
      <legend>{title}</legend>
      {entries.map(([value, n]) => (
        <CheckField key={value} checked={chosen === value} onChange={(e) => onSet(name, e.target.checked ? value : "")}>
          {icon && <KindIcon kind={value} />} <span>{value}</span> <em>{group(n)}</em>
        </CheckField>
      ))}
    </fieldset>
  );
}
