/** A pipeline or workflow as a drawing, of one version or of both in one. */

import { useEffect, useMemo, useRef, useState } from "react";
import { count } from "../../marks/words";
import { Part, Switch, TextAct } from "../../parts/Acts";
import { asDrawn, type Drawing, type DrawnEdge, type DrawnNode, isPlaced, laidOut, type Placed } from "./place";
import { Frame, Line, Patterns, Shape } from "./shapes";

type Side = "before" | "both" | "after";
interface Props {
  drawing: Drawing;
  /** Path of the part chosen elsewhere, such as that of a finding. */
  chosen: string;
  onChoose: (part: string) => void;
  compared?: boolean;
  height?: number;
}

export function DrawingView({ drawing, chosen, onChoose, compared = false, height = 470 }: Props) {
  const [side, setSide] = useState<Side>("both");
  const [ownPlaces, setOwnPlaces] = useState(false);
  const fromFile = isPlaced(drawing) && !ownPlaces;
  const placed = usePlaces(drawing, fromFile);
  const [zoom, setZoom] = useState<number | null>(null);
  const frame = useRef<HTMLDivElement>(null);
  const shown = useMemo(() => visible(drawing, side), [drawing, side]);
  const width = useWidth(frame);
  // As wide as the panel allows, yet never so small that names cannot be read.
  const scale = zoom ?? (placed ? Math.min(1.1, Math.max(0.66, (width - 18) / placed.bounds.width)) : 1);
  const tall = placed ? Math.min(height, Math.max(200, placed.bounds.height * scale + 2)) : height;
  const at = owner(drawing, chosen);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the list says when it runs again
  useEffect(() => {
    // Only within the frame: the page itself does not move.
    const [box, node] = [frame.current, frame.current?.querySelector("[data-chosen=true]")];
    if (!box || !node) return;
    const [around, own] = [box.getBoundingClientRect(), node.getBoundingClientRect()];
    box.scrollBy(
      Math.min(0, own.left - around.left) || Math.max(0, own.right - around.right),
      Math.min(0, own.top - around.top) || Math.max(0, own.bottom - around.bottom),
    );
  }, [at, placed]);
  const steps = drawing.nodes.filter((n) => !["frame", "lane", "port"].includes(n.shape)).length;
  return (
    <section className="sheet drawing" aria-label={compared ? "Both versions in one graph" : "Graph"}>
      <div className="ph">
        <h2 className="h3">{compared ? "Both versions in one graph" : "Graph"}</h2>
        {!compared && (
          <span className="cap">
            {count(steps, "step")}, {count(drawing.edges.length, "connection")}
          </span>
        )}
        <span className="r">
          {compared && (
            <Switch label="Version drawn">
              {(["before", "both", "after"] as Side[]).map((s) => (
                <Part key={s} pressed={side === s} onClick={() => setSide(s)}>
                  {s.charAt(0).toUpperCase() + s.slice(1)}
                </Part>
              ))}
            </Switch>
          )}
          <Switch label="Zoom">
            <Part aria-label="smaller" onClick={() => setZoom(Math.max(0.2, scale / 1.25))}>
              −
            </Part>
            <Part onClick={() => setZoom(null)}>fit</Part>
            <Part aria-label="larger" onClick={() => setZoom(Math.min(3, scale * 1.25))}>
              +
            </Part>
          </Switch>
        </span>
      </div>
      <div className="gr scroll" ref={frame} style={{ height: tall }}>
        {placed ? (
          <Canvas drawing={shown} placed={placed} scale={scale} at={at} onChoose={onChoose} ghosts={side === "both"} />
        ) : (
          <p className="cap pad">Laying it out</p>
        )}
      </div>
      <p className="cap foot">
        {isPlaced(drawing) ? (
          <TextAct onClick={() => setOwnPlaces(!ownPlaces)}>{fromFile ? "Redraw layout" : "Show it as drawn in the file"}</TextAct>
        ) : (
          "Laid out by Every Shelf; the file has no coordinates of its own."
        )}
        {drawing.note && ` ${drawing.note.charAt(0).toUpperCase()}${drawing.note.slice(1)}.`}
      </p>
    </section>
  );
}

function usePlaces(drawing: Drawing, fromFile: boolean): Placed | null {
  const own = useMemo(() => (fromFile ? asDrawn(drawing) : null), [drawing, fromFile]);
  const [made, setMade] = useState<{ of: Drawing; placed: Placed } | null>(null);
  useEffect(() => {
    if (fromFile) return;
    let wanted = true;
    void laidOut(drawing).then((placed) => wanted && setMade({ of: drawing, placed }));
    return () => {
      wanted = false;
    };
  }, [drawing, fromFile]);
  return own ?? (made?.of === drawing ? made.placed : null);
}

function useWidth(ref: React.RefObject<HTMLDivElement | null>): number {
  const [width, setWidth] = useState(860);
  useEffect(() => {
    if (!ref.current) return;
    const watcher = new ResizeObserver(([entry]) => entry && setWidth(entry.contentRect.width));
    watcher.observe(ref.current);
    return () => watcher.disconnect();
  }, [ref]);
  return width;
}

function visible(drawing: Drawing, side: Side): Drawing {
  if (side === "both") return drawing;
  const hidden = side === "before" ? ["added"] : ["removed", "was"];
  const nodes = drawing.nodes
    .filter((n) => !hidden.includes(n.state))
    .map((n) => (side === "before" && n.before_label ? { ...n, label: n.before_label } : n));
  const there = new Set(nodes.map((n) => n.id));
  const moved = new Set(drawing.edges.filter((e) => e.state === "was").map((e) => e.part));
  const edges = drawing.edges.filter(
    (e) => !hidden.includes(e.state) && !(side === "before" && e.state === "changed" && moved.has(e.part)),
  );
  return { ...drawing, nodes, edges: edges.filter((e) => there.has(e.source) && there.has(e.target)) };
}

/** Id of the node or edge the chosen part belongs to: its own, or that of what holds it. */
function owner(drawing: Drawing, part: string): string {
  for (let path = part; path && path !== "/"; path = path.slice(0, path.lastIndexOf("/"))) {
    const node = drawing.nodes.find((n) => n.part === path);
    if (node) return node.id;
    const edge = drawing.edges.find((e) => e.part === path && e.state !== "was") ?? drawing.edges.find((e) => e.part === path);
    if (edge) return edge.id;
  }
  return "";
}

function Canvas({
  drawing,
  placed,
  scale,
  at,
  onChoose,
  ghosts,
}: {
  drawing: Drawing;
  placed: Placed;
  scale: number;
  at: string;
  onChoose: (part: string) => void;
  ghosts: boolean;
}) {
  const { bounds } = placed;
  const frames = drawing.nodes.filter((n) => (n.shape === "frame" || n.shape === "lane") && placed.boxes.has(n.id));
  const nodes = drawing.nodes.filter((n) => n.shape !== "frame" && n.shape !== "lane" && placed.boxes.has(n.id));
  const labels = new Map(drawing.nodes.map((n) => [n.id, n.label]));
  const walk = (event: React.KeyboardEvent<SVGGElement>, node: DrawnNode) => {
    const out = drawing.edges.find((e) => e.source === node.id)?.target;
    const back = drawing.edges.find((e) => e.target === node.id)?.source;
    const place = nodes.indexOf(node);
    const next = { ArrowRight: out, ArrowLeft: back, ArrowDown: nodes[place + 1]?.id, ArrowUp: nodes[place - 1]?.id }[event.key];
    if (event.key === "Enter" || event.key === " ") onChoose(node.part);
    else if (next) event.currentTarget.ownerSVGElement?.querySelector<SVGGElement>(`[data-node="${CSS.escape(next)}"]`)?.focus();
    else return;
    event.preventDefault();
  };
  const first = nodes.find((n) => n.id === at) ?? nodes[0];
  return (
    <>
      <svg
        width={bounds.width * scale}
        height={bounds.height * scale}
        viewBox={`${bounds.x} ${bounds.y} ${bounds.width} ${bounds.height}`}
        role="group"
        aria-label="Drawing; arrows follow connections"
      >
        <Patterns />
        <rect x={bounds.x} y={bounds.y} width={bounds.width} height={bounds.height} fill="url(#d-dots)" />
        {frames.map((n) => (
          <Frame key={n.id} node={n} box={placed.boxes.get(n.id) ?? bounds} />
        ))}
        {ghosts &&
          nodes.map((n) => {
            const ghost = placed.ghosts.get(n.id);
            const now = placed.boxes.get(n.id);
            if (!ghost || !now) return null;
            return (
              <g key={n.id} fill="none" stroke="var(--moved)" strokeDasharray="2 3">
                <rect x={ghost.x} y={ghost.y} width={ghost.width} height={ghost.height} rx="3" />
                <path
                  d={`M${ghost.x + ghost.width / 2} ${ghost.y + ghost.height / 2}L${now.x + now.width / 2} ${now.y + now.height / 2}`}
                />
              </g>
            );
          })}
        {drawing.edges.map((e) => {
          const points = placed.lines.get(e.id);
          return points && points.length > 1 ? (
            <g key={e.id} data-chosen={e.id === at} className="edge" onClick={() => onChoose(e.part)}>
              <Line edge={e} points={points} at={placed.labels.get(e.id)} chosen={e.id === at} />
            </g>
          ) : null;
        })}
        {nodes.map((n) => (
          <g
            key={n.id}
            data-node={n.id}
            data-chosen={n.id === at}
            className="node"
            role="button"
            tabIndex={n === first ? 0 : -1}
            aria-pressed={n.id === at}
            aria-label={`${n.type} ${n.label}${n.detail ? ` ${n.detail}` : ""}${n.state === "same" ? "" : `, ${n.state}`}`}
            onClick={() => onChoose(n.part)}
            onKeyDown={(event) => walk(event, n)}
          >
            <Shape node={n} box={placed.boxes.get(n.id) ?? bounds} chosen={n.id === at} />
            {ghosts && placed.ghosts.has(n.id) && n.state === "same" && <Moved box={placed.boxes.get(n.id) ?? bounds} />}
          </g>
        ))}
      </svg>
      <ul className="sr" aria-label="Connections">
        {drawing.edges.map((e: DrawnEdge) => (
          <li key={e.id}>
            {labels.get(e.source)} leads to {labels.get(e.target)}
            {e.label ? `, ${e.label}` : ""}
            {e.state === "same" ? "" : `, ${e.state === "was" ? "before" : e.state}`}
          </li>
        ))}
      </ul>
    </>
  );
}

function Moved({ box }: { box: { x: number; y: number; width: number } }) {
  return (
    <svg x={box.x + box.width - 8} y={box.y - 8} width="16" height="16" viewBox="0 0 16 16" aria-hidden="true">
      <circle cx="8" cy="8" r="7.1" fill="var(--moved-wash)" stroke="var(--moved)" strokeWidth="1.3" />
      <path d="M4.2 10.4A3.9 3.9 0 0 1 11.6 8.8M12.4 5.9L11.7 9.3L8.6 8" stroke="var(--moved)" strokeWidth="1.6" fill="none" />
    </svg>
  );
}
