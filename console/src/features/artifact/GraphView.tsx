/** A pipeline or workflow: outline left, drawing in the middle, the chosen part right, each leading to the others. */

import { useMemo, useState } from "react";
import type { Outline, Part } from "../../api/queries";
import { group } from "../../marks/words";
import { RowAct, TextAct } from "../../parts/Acts";
import { DrawingView } from "../drawing/DrawingView";
import type { Drawing } from "../drawing/place";
import { PartDetail, RootFields } from "./OutlineView";

const MOST = 400;

function everyPart(parts: Part[], out: Part[] = []): Part[] {
  for (const part of parts) {
    out.push(part);
    everyPart(part.parts, out);
  }
  return out;
}

/** What is drawn by type, and after it what is not, so that the outline reads like the drawing's legend. */
function groups(parts: Part[], drawing: Drawing): [string, Part[]][] {
  const drawn = new Set([...drawing.nodes.map((n) => n.part), ...drawing.edges.map((e) => e.part)]);
  const found = new Map<string, Part[]>();
  for (const part of parts) if (drawn.has(part.path)) found.set(part.type, [...(found.get(part.type) ?? []), part]);
  return [...found];
}

export function GraphView({ drawing, outline }: { drawing: Drawing; outline: Outline }) {
  const parts = useMemo(() => everyPart(outline.parts), [outline]);
  const listed = useMemo(() => groups(parts, drawing), [parts, drawing]);
  const [path, setPath] = useState(drawing.nodes.find((n) => n.shape === "step")?.part ?? drawing.nodes[0]?.part ?? "");
  const [closed, setClosed] = useState<Set<string>>(new Set());
  const part = parts.find((p) => p.path === path);
  const toggle = (type: string) => {
    const next = new Set(closed);
    if (!next.delete(type)) next.add(type);
    setClosed(next);
  };
  return (
    <div className="cols3 graphview">
      <section className="sheet" aria-label="Outline">
        <div className="ph">
          <h2 className="h3">Outline</h2>
          <span className="cap">{group(parts.length)} parts</span>
        </div>
        <div className="tree">
          {listed.map(([type, own]) => (
            <div key={type}>
              <RowAct aria-expanded={!closed.has(type)} onClick={() => toggle(type)}>
                <b>
                  {closed.has(type) ? "▸" : "▾"} {type.charAt(0).toUpperCase() + type.slice(1)}
                </b>{" "}
                <span className="cap">{group(own.length)}</span>
              </RowAct>
              {!closed.has(type) &&
                own.slice(0, MOST).map((p) => (
                  <RowAct key={p.path} aria-current={p.path === path} style={{ paddingLeft: 28 }} onClick={() => setPath(p.path)}>
                    <span className="la">{p.label}</span>
                  </RowAct>
                ))}
            </div>
          ))}
        </div>
      </section>
      <DrawingView drawing={drawing} chosen={path} onChoose={setPath} height={430} />
      <section className="sheet" aria-label="Part">
        <div className="ph">
          <h2 className="h3">Part</h2>
        </div>
        {part ? (
          <>
            <PartDetail part={part} />
            <Ends drawing={drawing} part={path} onChoose={setPath} />
          </>
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
