/** A pipeline or workflow: outline left, drawing in the middle, the chosen part right, each leading to the others. */

import { useMemo, useState } from "react";
import type { Outline, Part } from "../../api/queries";
import { group } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { type Branch, LongTree } from "../../parts/LongTree";
import { DrawingView } from "../drawing/DrawingView";
import type { Drawing } from "../drawing/geometry";
import { WithOrigins } from "../origins/Beside";
import type { OfTable } from "../table/queries";
import { byPath, PartDetail, RootFields } from "./OutlineView";

/** What is drawn, by type in the order of the file, so that the list reads like the drawing's legend. */
function branchesOf(known: Map<string, Part>, drawing: Drawing): Branch[] {
  const labels = new Map(drawing.nodes.map((n) => [n.id, n.label]));
  const drawn = new Map(drawing.nodes.map((n): [string, [string, string]] => [n.part, [n.type, n.label]]));
  for (const edge of drawing.edges) {
    const part = known.get(edge.part);
    const label = part?.label || `${labels.get(edge.source) ?? ""} → ${labels.get(edge.target) ?? ""}`;
    if (!drawn.has(edge.part)) drawn.set(edge.part, [part?.type ?? "connection", label]);
  }
  const found = new Map<string, Branch[]>();
  for (const [id, [type, label]] of drawn) {
    const own = found.get(type) ?? [];
    own.push({ id, name: <span className="name">{label}</span>, inside: [] });
    found.set(type, own);
  }
  return [...found].map(([type, inside]) => ({
    id: `${TYPE}${type}`,
    name: (
      <span className="name">
        <b>{type.charAt(0).toUpperCase() + type.slice(1)}</b> <em>{group(inside.length)}</em>
      </span>
    ),
    inside,
  }));
}

/** Leads the id of a type; paths of parts begin with "/". */
const TYPE = "type ";

export function GraphView({ drawing, outline, of }: { drawing: Drawing; outline: Outline; of: OfTable }) {
  const known = useMemo(() => byPath(outline.parts), [outline]);
  const tree = useMemo(() => branchesOf(known, drawing), [known, drawing]);
  const [path, setPath] = useState(drawing.nodes.find((n) => n.shape === "step")?.part ?? drawing.nodes[0]?.part ?? "");
  const part = known.get(path);
  return (
    <div className="cols3 graphview">
      <section className="sheet" aria-label="Outline">
        <div className="ph">
          <h2 className="h3">Outline</h2>
          <span className="cap">
            {outline.truncated ? "more than " : ""}
            {group(known.size)} parts
          </span>
        </div>
        <div className="folders parts">
          <LongTree
            label="Parts"
            thing="part"
            branches={tree}
            opened={tree.map((one) => one.id)}
            chosen={path}
            onChoose={(id) => !id.startsWith(TYPE) && setPath(id)}
          />
        </div>
      </section>
      <DrawingView drawing={drawing} chosen={path} onChoose={setPath} height={430} />
      <section className="sheet" aria-label="Part">
        <div className="ph">
          <h2 className="h3">Part</h2>
        </div>
        {part ? (
          <WithOrigins of={of}>
            <PartDetail part={part} />
            <Ends drawing={drawing} part={path} onChoose={setPath} />
          </WithOrigins>
        ) : (
          <RootFields outline={outline} />
        )}
      </section>
    </div>
  );
}

/** Where a part leads and what leads to it. */
function Ends({ drawing, part, onChoose }: { drawing: Drawing; part: string; onChoose: (part: string) => void }) {
  const node = drawing.nodes.find((n) => n.part === part);
  if (!node) return null;
  const by = (end: "source" | "target") => drawing.edges.filter((e) => e[end] === node.id);
  const list = (title: string, edges: Drawing["edges"], other: "source" | "target") =>
    edges.length > 0 && (
      <div className="pad">
        <p className="cap">{title}</p>
        {edges.map((e) => {
          const end = drawing.nodes.find((n) => n.id === e[other]);
          return end ? (
            <p key={e.id}>
              <TextAct onClick={() => onChoose(end.part)}>{end.label}</TextAct>
              {e.label ? `, ${e.conditional ? "when " : ""}${e.label}` : ""}
            </p>
          ) : null;
        })}
      </div>
    );
  return (
    <>
      {list("Comes from", by("target"), "source")}
      {list("Goes to", by("source"), "target")}
    </>
  );
}
