/** The drawing itself: moved by hand, wheel and keys, with a small map of all of it. */
import {
  Background,
  type Edge,
  type EdgeProps,
  Handle,
  MiniMap,
  type Node,
  type NodeProps,
  PanOnScrollMode,
  Position,
  ReactFlow,
  type ReactFlowInstance,
  ViewportPortal,
} from "@xyflow/react";
import "@xyflow/react/dist/base.css";
import { createContext, type KeyboardEvent, startTransition, useContext, useEffect, useMemo, useRef, useState } from "react";
import { type Box, type Drawing, type DrawnEdge, type DrawnNode, isBehind, type Placed, type Point } from "./geometry";
import { Frame, INK, Line, Patterns, Shape } from "./shapes";
import { LARGEST, next, SMALLEST, sees, shownAtFirst } from "./view";

type ShapeNode = Node<{ drawn: DrawnNode; box: Box; moved: boolean }, "shape" | "frame">;
type CourseEdge = Edge<{ drawn: DrawnEdge; points: Point[]; at: Point | undefined }, "course">;
export type View = ReactFlowInstance<ShapeNode, CourseEdge>;

/** Beyond so many steps only those in sight are in the page; the lists beside the drawing have all. */
const MOST_IN_PAGE = 300;
/** How far beyond its edge a drawing can be pushed. */
const AROUND = 400;
const HANDLE = { opacity: 0, pointerEvents: "none", minWidth: 0, minHeight: 0, width: 1, height: 1, border: 0 } as const;

interface Shared {
  at: string;
  /** The step that Tab reaches; arrows go on from there. */
  first: string;
  focused: string;
  onChoose: (part: string) => void;
  onWalk: (event: KeyboardEvent, node: DrawnNode) => void;
}
const Around = createContext<Shared>({ at: "", first: "", focused: "", onChoose: () => {}, onWalk: () => {} });

interface Props {
  drawing: Drawing;
  placed: Placed;
  width: number;
  height: number;
  at: string;
  onChoose: (part: string) => void;
  ghosts: boolean;
  onView: (view: View) => void;
  label: string;
}

export function Canvas({ drawing, placed, width, height, at, onChoose, ghosts, onView, label }: Props) {
  const view = useRef<View>(null);
  const [focused, setFocused] = useState("");
  // The map draws every step of all: it comes when what is in sight is there.
  const [mapped, setMapped] = useState(drawing.nodes.length <= MOST_IN_PAGE);
  useEffect(() => startTransition(() => setMapped(true)), []);
  const nodes = useMemo(() => nodesOf(drawing, placed, ghosts), [drawing, placed, ghosts]);
  const edges = useMemo(() => edgesOf(drawing, placed), [drawing, placed]);
  const steps = useMemo(() => nodes.filter((n) => n.type === "shape").map((n) => n.data.drawn), [nodes]);
  const start = useMemo(() => shownAtFirst(placed, { width, height }, at), [placed, width, height, at]);
  const first = steps.some((n) => n.id === at) ? at : (steps[0]?.id ?? "");
  const show = (id: string) => {
    const [own, now] = [placed.boxes.get(id), view.current?.getViewport()];
    if (own && now && !sees(now, { width, height }, own))
      void view.current?.setCenter(own.x + own.width / 2, own.y + own.height / 2, { zoom: now.zoom });
  };
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is chosen comes into sight once, when it is chosen
  useEffect(() => show(at), [at, placed]);
  const walk = (event: KeyboardEvent, node: DrawnNode) => {
    if (event.key === "Enter" || event.key === " ") onChoose(node.part);
    else {
      const to = next(event.key, node, steps, drawing.edges);
      if (!to) return;
      show(to);
      setFocused(to);
    }
    event.preventDefault();
    event.stopPropagation();
  };
  const { bounds } = placed;
  return (
    <Around.Provider value={{ at, first, focused, onChoose, onWalk: walk }}>
      <ReactFlow<ShapeNode, CourseEdge>
        nodes={nodes}
        edges={edges}
        width={width}
        height={height}
        nodeTypes={NODES}
        edgeTypes={EDGES}
        onInit={(made) => {
          view.current = made;
          onView(made);
        }}
        defaultViewport={start}
        minZoom={SMALLEST}
        maxZoom={LARGEST}
        translateExtent={[
          [bounds.x - AROUND, bounds.y - AROUND],
          [bounds.x + bounds.width + AROUND, bounds.y + bounds.height + AROUND],
        ]}
        panOnScroll
        panOnScrollMode={PanOnScrollMode.Free}
        zoomActivationKeyCode={["Control", "Meta"]}
        nodesDraggable={false}
        nodesConnectable={false}
        nodesFocusable={false}
        edgesFocusable={false}
        elementsSelectable={false}
        disableKeyboardA11y
        deleteKeyCode={null}
        selectionKeyCode={null}
        multiSelectionKeyCode={null}
        onlyRenderVisibleElements={nodes.length > MOST_IN_PAGE}
        onEdgeClick={(_, edge) => edge.data && onChoose(edge.data.drawn.part)}
        proOptions={{ hideAttribution: true }}
        ariaLabelConfig={{ "minimap.ariaLabel": "Map of the whole drawing" }}
        aria-label={label}
      >
        <Background gap={16} size={1.2} color="var(--line)" />
        <ViewportPortal>
          <Ghosts nodes={steps} placed={placed} shown={ghosts} />
        </ViewportPortal>
        {mapped && (bounds.width * start.zoom > width || bounds.height * start.zoom > height) && (
          <MiniMap<ShapeNode>
            pannable
            zoomable
            position="bottom-right"
            style={{ width: 150, height: 96 }}
            bgColor="var(--sheet)"
            maskColor="color-mix(in srgb, var(--ink) 12%, transparent)"
            nodeColor={(n) => (n.data.drawn.state === "same" ? "var(--line-strong)" : (INK[n.data.drawn.state] ?? "var(--line-strong)"))}
            nodeStrokeWidth={0}
          />
        )}
      </ReactFlow>
      <Connections drawing={drawing} />
    </Around.Provider>
  );
}

function nodesOf(drawing: Drawing, placed: Placed, ghosts: boolean): ShapeNode[] {
  return drawing.nodes.flatMap((drawn) => {
    const box = placed.boxes.get(drawn.id);
    if (!box) return [];
    const behind = isBehind(drawn);
    return {
      id: drawn.id,
      type: behind ? "frame" : "shape",
      position: { x: box.x, y: box.y },
      width: box.width,
      height: box.height,
      // Known beforehand, so that steps out of sight need not be in the page to be measured.
      handles: [
        { type: "target" as const, position: Position.Left, x: 0, y: box.height / 2, width: 1, height: 1 },
        { type: "source" as const, position: Position.Right, x: box.width, y: box.height / 2, width: 1, height: 1 },
      ],
      zIndex: behind ? -1 : 1,
      className: behind ? "behind" : undefined,
      data: { drawn, box, moved: ghosts && drawn.state === "same" && placed.ghosts.has(drawn.id) },
    };
  });
}

function edgesOf(drawing: Drawing, placed: Placed): CourseEdge[] {
  return drawing.edges.flatMap((drawn) => {
    const points = placed.lines.get(drawn.id);
    if (!points || points.length < 2 || !placed.boxes.has(drawn.source) || !placed.boxes.has(drawn.target)) return [];
    const { id, source, target } = drawn;
    return { id, source, target, type: "course", data: { drawn, points, at: placed.labels.get(id) } };
  });
}

/** A step, gateway, event or store; it is drawn at the place the drawing gives it, in a box of its own. */
function DrawnShape({ id, data: { drawn, box, moved } }: NodeProps<ShapeNode>) {
  const { at, first, focused, onChoose, onWalk } = useContext(Around);
  const own = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (focused === id) own.current?.focus({ preventScroll: true });
  }, [focused, id]);
  return (
    <div
      ref={own}
      className="node"
      role="button"
      tabIndex={id === first ? 0 : -1}
      data-node={id}
      data-chosen={id === at}
      aria-pressed={id === at}
      aria-label={`${drawn.type} ${drawn.label}${drawn.detail ? ` ${drawn.detail}` : ""}${drawn.state === "same" ? "" : `, ${drawn.state}`}`}
      onClick={() => onChoose(drawn.part)}
      onKeyDown={(event) => onWalk(event, drawn)}
      style={{ width: box.width, height: box.height }}
    >
      <svg width={box.width} height={box.height} viewBox={`${box.x} ${box.y} ${box.width} ${box.height}`} aria-hidden="true">
        <Shape node={drawn} box={box} chosen={id === at} />
        {moved && <Moved box={box} />}
      </svg>
      <Handle type="target" position={Position.Left} isConnectable={false} style={HANDLE} />
      <Handle type="source" position={Position.Right} isConnectable={false} style={HANDLE} />
    </div>
  );
}

function DrawnFrame({ data: { drawn, box } }: NodeProps<ShapeNode>) {
  return (
    <>
      <svg width={box.width} height={box.height} viewBox={`${box.x} ${box.y} ${box.width} ${box.height}`} aria-hidden="true">
        <Frame node={drawn} box={box} />
      </svg>
      <Handle type="target" position={Position.Left} isConnectable={false} style={HANDLE} />
      <Handle type="source" position={Position.Right} isConnectable={false} style={HANDLE} />
    </>
  );
}

function Course({ id, data }: EdgeProps<CourseEdge>) {
  const { at } = useContext(Around);
  return data ? <Line edge={data.drawn} points={data.points} at={data.at} chosen={id === at} /> : null;
}

const NODES = { shape: DrawnShape, frame: DrawnFrame };
const EDGES = { course: Course };

/** Where what has moved was before, with a line to where it is; and the patterns all shapes use. */
function Ghosts({ nodes, placed, shown }: { nodes: DrawnNode[]; placed: Placed; shown: boolean }) {
  const both = shown ? nodes.flatMap((n) => ({ id: n.id, was: placed.ghosts.get(n.id), now: placed.boxes.get(n.id) })) : [];
  return (
    <svg className="ghosts" width="1" height="1" aria-hidden="true">
      <Patterns />
      {both.map(({ id, was, now }) =>
        was && now ? (
          <g key={id} fill="none" stroke="var(--moved)" strokeDasharray="2 3">
            <rect x={was.x} y={was.y} width={was.width} height={was.height} rx="3" />
            <path d={`M${was.x + was.width / 2} ${was.y + was.height / 2}L${now.x + now.width / 2} ${now.y + now.height / 2}`} />
          </g>
        ) : null,
      )}
    </svg>
  );
}

/** The same for those who hear it. */
function Connections({ drawing }: { drawing: Drawing }) {
  const labels = new Map(drawing.nodes.map((n) => [n.id, n.label]));
  return (
    <ul className="sr" aria-label="Connections">
      {drawing.edges.slice(0, MOST_IN_PAGE).map((e) => (
        <li key={e.id}>
          {labels.get(e.source)} leads to {labels.get(e.target)}
          {e.label ? `, ${e.label}` : ""}
          {e.state === "same" ? "" : `, ${e.state === "was" ? "before" : e.state}`}
        </li>
      ))}
      {drawing.edges.length > MOST_IN_PAGE && <li>and {drawing.edges.length - MOST_IN_PAGE} more; each part lists its own</li>}
    </ul>
  );
}

function Moved({ box }: { box: Box }) {
  return (
    <svg x={box.x + box.width - 8} y={box.y - 8} width="16" height="16" viewBox="0 0 16 16" aria-hidden="true">
      <circle cx="8" cy="8" r="7.1" fill="var(--moved-wash)" stroke="var(--moved)" strokeWidth="1.3" />
      <path d="M4.2 10.4A3.9 3.9 0 0 1 11.6 8.8M12.4 5.9L11.7 9.3L8.6 8" stroke="var(--moved)" strokeWidth="1.6" fill="none" />
    </svg>
  );
}
