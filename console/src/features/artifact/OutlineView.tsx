/** What the artifact is made of: a tree of parts, and the chosen one in full. Tables show columns and first rows. */

import { useMemo, useState } from "react";
import type { Outline, Part } from "../../api/queries";
import { group, value } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { type Branch, LongTree } from "../../parts/LongTree";
import { later } from "../../parts/later";
import { smallEnough } from "../../parts/levels";
import { Loading } from "../../shell/states";
import { TensorList } from "../model/TensorList";
import { SetBy, SetByWhom, WithOrigins } from "../origins/Beside";
import type { OfTable } from "../table/queries";
import { TablePreview } from "../table/TablePreview";

const RowsGrid = later(async () => ({ default: (await import("../table/RowsGrid")).RowsGrid }), <Loading what="Reading the table" />);

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
  return (
    <WithOrigins of={of}>
      <TreeView outline={outline} of={of} />
    </WithOrigins>
  );
}

/** The first part that says something of its own: not a mere list. */
function firstTold(parts: Part[]): Part | null {
  const first = parts[0];
  if (!first) return null;
  return first.type === "list" && first.parts[0] ? first.parts[0] : first;
}

function TreeView({ outline, of }: { outline: Outline; of: OfTable }) {
  const [chosen, setChosen] = useState<Part | null>(firstTold(outline.parts));
  const known = useMemo(() => byPath(outline.parts), [outline]);
  const tree = useMemo(() => outline.parts.map(asBranch), [outline]);
  const holder = chosen ? (/^\/(?:table|sheet):(.*?)(\/|$)/.exec(chosen.path)?.[1] ?? "") : "";
  const name = holder.replace(/%2F/g, "/");
  const table = outline.tables?.[name];
  return (
    <div className="cols2">
      <section className="sheet" aria-label="Outline">
        <div className="ph">
          <h2 className="h3">Outline</h2>
          <span className="cap">
            {outline.truncated ? "the first " : ""}
            {group(known.size)} parts
          </span>
        </div>
        {outline.note && <p className="cap pad">{outline.note}</p>}
        <div className="folders parts">
          <LongTree
            label="Parts"
            thing="part"
            branches={tree}
            opened={smallEnough(tree)}
            chosen={chosen?.path ?? ""}
            onChoose={(path) => setChosen(known.get(path) ?? null)}
          />
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

/** All parts by their path. */
export function byPath(parts: Part[], known = new Map<string, Part>()): Map<string, Part> {
  for (const part of parts) {
    known.set(part.path, part);
    byPath(part.parts, known);
  }
  return known;
}

function asBranch(part: Part): Branch {
  const name = (
    <span className="name" title={part.label}>
      <span className="ty">{part.type}</span> <span className="la">{part.label}</span>
      <SetBy part={part.path} />
    </span>
  );
  return { id: part.path, name, inside: part.parts.map(asBranch) };
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
      <SetByWhom part={part.path} />
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
