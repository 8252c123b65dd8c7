/** A drawing without places of its own, laid out here in layers. */
import type { ELK, ElkNode } from "elkjs/lib/elk-api";
import { inColumns } from "./columns";
import { type Box, boundsOf, type Drawing, middles, type Placed, type Point, SIZES } from "./geometry";

const WRAPPED = { "elk.layered.wrapping.strategy": "MULTI_EDGE", "elk.aspectRatio": "1.9" };
/** Of more steps the kernel's rounds are not worth the wait: tens of seconds for a few thousand. */
const MOST_AT_LEISURE = 600;

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
  const nodes = drawing.nodes.filter((n) => n.shape !== "lane");
  if (nodes.length > MOST_AT_LEISURE) return inColumns({ ...drawing, nodes });
  const kernel = await layoutKernel();
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
      ...(grouped ? {} : WRAPPED),
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
