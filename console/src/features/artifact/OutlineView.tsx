/** What the artifact is made of: a tree of parts, and the chosen one in full. Tables show columns and first rows. */

import { lazy, useMemo, useState } from "react";
import type { Outline, Part } from "../../api/queries";
import { group, value } from "../../marks/words";
import { RowAct, TextAct } from "../../parts/Acts";
import { TensorList } from "../model/TensorList";
import type { OfTable } from "../table/queries";
import { TablePreview } from "../table/TablePreview";

const RowsGrid = lazy(() => import("../table/RowsGrid").then((part) => ({ default: part.RowsGrid })));

interface Row {
  part: Part;
  depth: number;
}

function flat(parts: Part[], depth: number, closed: Set<string>, out: Row[]): Row[] {
  for (const part of parts) {
    out.push({ part, depth });
    if (!closed.has(part.path)) flat(part.parts, depth + 1, closed, out);
  }
  return out;
}

export function OutlineView({ outline, of, onText }: { outline: Outline; of: OfTable; onText: () => void }) {
  if (outline.table) return <RowsGrid of={of} table="" profiles={outline.table.profiles} />;
  if (outline.parts.length === 0 && Object.keys(outline.fields ?? {}).length === 0) {
    return (
      <div className="sheet empty">
        No outline: {outline.note || "this format is not supported; shown as text or bytes"}.{" "}
        <TextAct onClick={onText}>See it as text</TextAct>
      </div>
    );
  }
  if (outline.parts.length === 0)
    return (
      <section className="sheet" aria-label="Outline">
        <RootFields outline={outline} />
      </section>
    );
  return <TreeView outline={outline} of={of} />;
}

/** The first part that says something of its own: not a mere list. */
function firstTold(parts: Part[]): Part | null {
  const first = parts[0];
  if (!first) return null;
  return first.type === "list" && first.parts[0] ? first.parts[0] : first;
}

function TreeView({ outline, of }: { outline: Outline; of: OfTable }) {
  const [chosen, setChosen] = useState<Part | null>(firstTold(outline.parts));
  const [closed, setClosed] = useState<Set<string>>(new Set());
  const rows = useMemo(() => flat(outline.parts, 0, closed, []), [outline, closed]);
  const shown = rows.slice(0, 1500);
  const toggle = (path: string) => {
    const next = new Set(closed);
    if (!next.delete(path)) next.add(path);
    setClosed(next);
  };
  const walk = (event: React.KeyboardEvent) => {
    const at = rows.findIndex((r) => r.part === chosen);
    const step = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
    const next = rows[at + step];
    if (step && next) {
      event.preventDefault();
      setChosen(next.part);
    }
  };
  const holder = chosen ? (/^\/(?:table|sheet):(.*?)(\/|$)/.exec(chosen.path)?.[1] ?? "") : "";
  const name = holder.replace(/%2F/g, "/");
  const table = outline.tables?.[name];
  return (
    <div className="cols2">
      <section className="sheet" aria-label="Outline">
        <div className="ph">
          <h2 className="h3">Outline</h2>
          <span className="cap">
            {group(rows.length)} parts{outline.truncated ? ", more not shown" : ""}
          </span>
        </div>
        {outline.note && <p className="cap pad">{outline.note}</p>}
        <div className="tree" onKeyDown={walk} tabIndex={-1}>
          {shown.map(({ part, depth }) => (
            <RowAct
              key={part.path}
              aria-current={part === chosen}
              style={{ paddingLeft: 12 + depth * 14 }}
              onClick={() => setChosen(part)}
              onDoubleClick={() => toggle(part.path)}
            >
              <span className="ty">
                {part.parts.length ? (closed.has(part.path) ? "▸ " : "▾ ") : ""}
                {part.type}
              </span>
              <span className="la">{part.label}</span>
            </RowAct>
          ))}
          {rows.length > shown.length && (
            <p className="cap pad">{group(rows.length - shown.length)} more parts; close some above by double click.</p>
          )}
        </div>
      </section>
      <div className="stack">
        <section className="sheet" aria-label="Part">
          <div className="ph">
            <h2 className="h3">Part</h2>
          </div>
          {chosen ? <PartDetail part={chosen} /> : <RootFields outline={outline} />}
          {table?.numbers && <TablePreview table={table} />}
          {table && !table.numbers && <RowsGrid key={name} of={of} table={name} profiles={table.profiles} />}
        </section>
        {outline.model && <TensorList tensors={outline.model.tensors} values={outline.model.values} />}
      </div>
    </div>
  );
}

export function RootFields({ outline }: { outline: Outline }) {
  return <Fields fields={outline.fields ?? {}} />;
}

export function PartDetail({ part }: { part: Part }) {
  return (
    <>
      <div className="pad">
        <h2>{part.label}</h2>
        <p className="mono mut" style={{ overflowWrap: "anywhere" }}>
          {part.path}
        </p>
      </div>
      <Fields fields={{ type: part.type, ...part.fields }} />
      {part.parts.length > 0 && (
        <p className="cap pad">
          holds {group(part.parts.length)} {part.parts.length === 1 ? "part" : "parts"}
        </p>
      )}
    </>
  );
}

function Fields({ fields }: { fields: Record<string, unknown> }) {
  return (
    <dl className="kv2" style={{ margin: 0 }}>
      {Object.entries(fields).map(([name, v]) => (
        <div key={name} style={{ display: "contents" }}>
          <dt>{name}</dt>
          <dd style={{ whiteSpace: "pre-wrap" }}>{value(v)}</dd>
        </div>
      ))}
    </dl>
  );
}
