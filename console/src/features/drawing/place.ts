/** Where everything in a drawing stands: as the file's own program drew it, or laid out here in layers. */
import type { ELK, ElkNode } from "elkjs/lib/elk-api";
import type { Schemas } from "../../api/client";

export type Drawing = Schemas["Drawing"];
export type DrawnNode = Schemas["DrawnNode"];
export type DrawnEdge = Schemas["DrawnEdge"];
export interface Point {
  x: number;
  y: number;
}
export interface Box extends Point {
  width: number;
  height: number;
}
export interface Placed {
  boxes: Map<string, Box>;
  ghosts: Map<string, Box>;
  lines: Map<string, Point[]>;
  labels: Map<string, Point>;
  bounds: Box;
}

const SIZES: Record<string, [number, number]> = {
  step: [150, 62],
  gateway: [124, 76],
  event: [36, 36],
  end: [36, 36],
  data: [96, 50],
  port: [124, 28],
  frame: [180, 80],
  lane: [180, 80],
};
const MARGIN = 28;
const MOVED = 4;

/** A frame or lane: behind everything else, and nothing that can be chosen. */
export function isBehind(node: DrawnNode): boolean {
  return node.shape === "frame" || node.shape === "lane";
}

/** True if the file's coordinates can be used: everything but ports has some. */
export function isPlaced(drawing: Drawing): boolean {
  return drawing.placed && drawing.nodes.every((n) => n.shape === "port" || n.after || n.before);
}

/** The file's own places; both versions level with each other when the whole drawing was shifted. */
export function asDrawn(drawing: Drawing): Placed {
  const shift = commonShift(drawing.nodes);
  const boxes = new Map<string, Box>();
  const ghosts = new Map<string, Box>();
  const back = (b: Box) => ({ ...b, x: b.x + shift.x, y: b.y + shift.y });
  for (const node of drawing.nodes) {
    if (node.after) boxes.set(node.id, enough(node, node.after));
    if (node.after && node.before) {
      const was = back(node.before);
      if (Math.abs(was.x - node.after.x) > MOVED || Math.abs(was.y - node.after.y) > MOVED) ghosts.set(node.id, was);
    }
  }
  for (const node of drawing.nodes) {
    if (!node.after && node.before) boxes.set(node.id, clear(enough(node, back(node.before)), [...boxes.values()], node.shape));
  }
  beside(drawing, boxes);
  const lines = new Map<string, Point[]>();
  for (const edge of drawing.edges) {
    const a = boxes.get(edge.source);
    const b = boxes.get(edge.target);
    if (!a || !b) continue;
    const old = edge.state === "was" || edge.state === "removed";
    const points = edge.points.map(([x, y]) => ({
      x: (x ?? 0) + (old ? shift.x : 0),
      y: (y ?? 0) + (old ? shift.y : 0),
    }));
    lines.set(edge.id, points.length > 1 ? points : elbow(a, b));
  }
  return {
    boxes,
    ghosts,
    lines,
    labels: middles(lines),
    bounds: boundsOf([...boxes.values(), ...ghosts.values()], [...lines.values()].flat()),
  };
}

/** Small boxes of the file are drawn large enough for a name; shapes without one keep their size. */
function enough(node: DrawnNode, box: Box): Box {
  if (node.shape !== "step" && node.shape !== "data") return box;
  const width = Math.max(box.width, 84);
  const height = Math.max(box.height, 34);
  return { x: box.x - (width - box.width) / 2, y: box.y - (height - box.height) / 2, width, height };
}

/** By how much most things moved together: that much is no move. */
function commonShift(nodes: DrawnNode[]): Point {
  const both = nodes.filter((n) => n.before && n.after);
  const middle = (list: number[]) => list.sort((a, b) => a - b)[Math.floor(list.length / 2)] ?? 0;
  const by = (axis: "x" | "y") => middle(both.map((n) => (n.after?.[axis] ?? 0) - (n.before?.[axis] ?? 0)));
  const shift = { x: by("x"), y: by("y") };
  const agree = both.filter(
    (n) =>
      Math.abs((n.after?.x ?? 0) - (n.before?.x ?? 0) - shift.x) <= MOVED &&
      Math.abs((n.after?.y ?? 0) - (n.before?.y ?? 0) - shift.y) <= MOVED,
  );
  return agree.length * 2 > both.length ? shift : { x: 0, y: 0 };
}

/** What went stands where it stood, unless something else stands there now: then below that. */
function clear(box: Box, others: Box[], shape: string): Box {
  let at = box;
  for (let n = 0; n < 8 && shape !== "frame" && shape !== "lane"; n++) {
    const hit = others.find(
      (o) => o.width < 400 && o.x < at.x + at.width && at.x < o.x + o.width && o.y < at.y + at.height && at.y < o.y + o.height,
    );
    if (!hit) break;
    at = { ...at, y: hit.y + hit.height + 14 };
  }
  return at;
}

/** Ports without places: in a column before or behind everything else. */
function beside(drawing: Drawing, boxes: Map<string, Box>): void {
  const all = boundsOf([...boxes.values()], []);
  let left = 0;
  let right = 0;
  for (const node of drawing.nodes) {
    if (boxes.has(node.id)) continue;
    const [width, height] = SIZES[node.shape] ?? [150, 62];
    const behind = node.type === "output";
    const row = behind ? right++ : left++;
    boxes.set(node.id, {
      x: behind ? all.x + all.width + 40 : all.x - width - 40,
      y: all.y + row * (height + 12),
      width,
      height,
    });
  }
}

function boundsOf(boxes: Box[], points: Point[]): Box {
  const xs = [...boxes.flatMap((b) => [b.x, b.x + b.width]), ...points.map((p) => p.x)];
  const ys = [...boxes.flatMap((b) => [b.y, b.y + b.height + 18]), ...points.map((p) => p.y)];
  const least = (list: number[], or: number) => list.reduce((a, b) => Math.min(a, b), or);
  const most = (list: number[], or: number) => list.reduce((a, b) => Math.max(a, b), or);
  const x = least(xs, xs[0] ?? 0);
  const y = least(ys, ys[0] ?? 0);
  return { x: x - MARGIN, y: y - MARGIN, width: most(xs, x) - x + 2 * MARGIN, height: most(ys, y) - y + 2 * MARGIN };
}

/** A course of right angles from one box to another. */
function elbow(a: Box, b: Box): Point[] {
  const level = (box: Box) => box.y + box.height / 2;
  const centre = (box: Box) => box.x + box.width / 2;
  if (b.x >= a.x + a.width + 8) {
    const start = { x: a.x + a.width, y: level(a) };
    const end = { x: b.x, y: level(b) };
    const mid = (start.x + end.x) / 2;
    return Math.abs(start.y - end.y) < 3 ? [start, end] : [start, { x: mid, y: start.y }, { x: mid, y: end.y }, end];
  }
  if (b.y >= a.y + a.height + 8 || a.y >= b.y + b.height + 8) {
    const below = b.y > a.y;
    const start = { x: centre(a), y: below ? a.y + a.height : a.y };
    const end = { x: centre(b), y: below ? b.y : b.y + b.height };
    const mid = (start.y + end.y) / 2;
    return Math.abs(start.x - end.x) < 3 ? [start, end] : [start, { x: start.x, y: mid }, { x: end.x, y: mid }, end];
  }
  const top = Math.min(a.y, b.y) - 22; // back to something on the same level: over both
  return [
    { x: centre(a), y: a.y },
    { x: centre(a), y: top },
    { x: centre(b), y: top },
    { x: centre(b), y: b.y },
  ];
}

/** The middle of each line's longest stretch: where its label and mark stand. */
function middles(lines: Map<string, Point[]>): Map<string, Point> {
  const found = new Map<string, Point>();
  for (const [id, points] of lines) {
    let best = -1;
    for (let i = 1; i < points.length; i++) {
      const a = points[i - 1];
      const b = points[i];
      if (!a || !b) continue;
      const length = Math.hypot(b.x - a.x, b.y - a.y);
      if (length > best) {
        best = length;
        found.set(id, { x: (a.x + b.x) / 2, y: (a.y + b.y) / 2 });
      }
    }
  }
  return found;
}

const WRAPPED = { "elk.layered.wrapping.strategy": "MULTI_EDGE", "elk.aspectRatio": "1.9" };
/** Of thousands of steps fewer crossings are not worth the wait: one round, and one of the four placements. */
const MOST_AT_LEISURE = 600;
const IN_HASTE = {
  "elk.layered.thoroughness": "1",
  "elk.layered.crossingMinimization.greedySwitch.type": "OFF",
  "elk.layered.nodePlacement.strategy": "BRANDES_KOEPF",
  "elk.layered.nodePlacement.bk.fixedAlignment": "LEFTUP",
};

let kernel: ELK | undefined;

/** The kernel in a thread of its own: the page stays quick while it works. */
async function layoutKernel(): Promise<ELK> {
  if (!kernel) {
    const [{ default: Kernel }, { default: url }] = await Promise.all([
      import("elkjs/lib/elk-api.js"),
      import("elkjs/lib/elk-worker.min.js?url"),
    ]);
    kernel = new Kernel({ workerFactory: () => new Worker(url) });
  }
  return kernel;
}

/** Start the thread that lays out while what is to be drawn is still on its way. */
export function warmUp(): void {
  void layoutKernel();
}

/** Laid out in layers from left to right (Sugiyama's method, by the Eclipse Layout Kernel). */
export async function laidOut(drawing: Drawing): Promise<Placed> {
  const kernel = await layoutKernel();
  const nodes = drawing.nodes.filter((n) => n.shape !== "lane");
  const known = new Set(nodes.map((n) => n.id));
  const below = (group: string): ElkNode[] =>
    nodes
      .filter((n) => (known.has(n.group) ? n.group : "") === group)
      .map((n) => {
        const [width, height] = SIZES[n.shape] ?? [150, 62];
        const circle = n.shape === "event" || n.shape === "end";
        const children = n.shape === "frame" ? below(n.id) : [];
        const made: ElkNode = { id: n.id, width, height };
        if (children.length) Object.assign(made, { children, layoutOptions: { "elk.padding": "[top=34,left=16,bottom=16,right=16]" } });
        if (circle) {
          made.labels = [{ text: n.label, width: Math.min(110, n.label.length * 6.4), height: n.label.length > 16 ? 34 : 18 }];
          made.layoutOptions = { "elk.nodeLabels.placement": "[H_CENTER, V_BOTTOM, OUTSIDE]" };
        }
        return made;
      });
  const grouped = nodes.some((n) => known.has(n.group));
  const tree: ElkNode = await kernel.layout({
    id: "root",
    layoutOptions: {
      "elk.algorithm": "layered",
      "elk.direction": "RIGHT",
      "elk.edgeRouting": "ORTHOGONAL",
      "elk.hierarchyHandling": "INCLUDE_CHILDREN",
      "elk.layered.spacing.nodeNodeBetweenLayers": "44",
      "elk.spacing.nodeNode": "26",
      "elk.spacing.edgeNode": "16",
      "elk.layered.spacing.edgeNodeBetweenLayers": "16",
      "elk.json.shapeCoords": "ROOT",
      "elk.json.edgeCoords": "ROOT",
      "elk.layered.considerModelOrder.strategy": "NODES_AND_EDGES",
      ...(nodes.length > MOST_AT_LEISURE ? IN_HASTE : grouped ? {} : WRAPPED),
    },
    children: below(""),
    edges: drawing.edges
      .filter((e) => known.has(e.source) && known.has(e.target))
      .map((e) => ({
        id: e.id,
        sources: [e.source],
        targets: [e.target],
        ...(e.label ? { labels: [{ text: e.label, width: Math.min(120, e.label.length * 6.2) + 6, height: 16 }] } : {}),
      })),
  });
  const boxes = new Map<string, Box>();
  const walk = (list: ElkNode[] | undefined) => {
    for (const child of list ?? []) {
      boxes.set(child.id, { x: child.x ?? 0, y: child.y ?? 0, width: child.width ?? 0, height: child.height ?? 0 });
      walk(child.children);
    }
  };
  walk(tree.children);
  const lines = new Map<string, Point[]>();
  const labels = new Map<string, Point>();
  for (const edge of tree.edges ?? []) {
    const points = (edge.sections ?? []).flatMap((s) => [s.startPoint, ...(s.bendPoints ?? []), s.endPoint]);
    lines.set(edge.id, points);
    const label = edge.labels?.[0];
    if (label?.x !== undefined) labels.set(edge.id, { x: label.x + (label.width ?? 0) / 2, y: (label.y ?? 0) + 8 });
  }
  for (const [id, point] of middles(lines)) if (!labels.has(id)) labels.set(id, point);
  return { boxes, ghosts: new Map(), lines, labels, bounds: boundsOf([...boxes.values()], [...lines.values()].flat()) };
}
