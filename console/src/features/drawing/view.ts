/** What of a drawing is in sight, and which step a key leads to; pure. */
import type { Box, Drawing, DrawnEdge, DrawnNode, Placed } from "./geometry";

export interface Size {
  width: number;
  height: number;
}
/** As the canvas keeps it: where the drawing's origin is in the frame, in pixels, and how large it is drawn. */
export interface Seen {
  x: number;
  y: number;
  zoom: number;
}

/** Names are set in 13 px and more: drawn smaller than this they would be under 12 px. */
export const READABLE = 0.93;
export const SMALLEST = 0.05;
export const LARGEST = 3;
const MOST_AT_FIRST = 1.1;
const EDGE = 12;

/** The whole drawing if names can be read then; otherwise as large as that takes, from its beginning or what is chosen. */
export function shownAtFirst(placed: Placed, frame: Size, chosen: string): Seen {
  const { bounds } = placed;
  const fits = Math.min((frame.width - 4) / bounds.width, frame.height / bounds.height);
  const zoom = Math.min(MOST_AT_FIRST, Math.max(READABLE, fits));
  const own = placed.boxes.get(chosen);
  const along = (start: number, long: number, room: number, at: number | undefined, centred: boolean): number => {
    const spare = room - long * zoom;
    if (spare >= 0) return spare / 2 - start * zoom;
    const shown = centred ? spare / 2 : 0;
    const wanted = at === undefined ? shown : room / 2 - (at - start) * zoom;
    return Math.max(spare, Math.min(0, at === undefined || isWithin(shown, at - start, room, zoom) ? shown : wanted)) - start * zoom;
  };
  return {
    x: along(bounds.x, bounds.width, frame.width, own && own.x + own.width / 2, false),
    y: along(bounds.y, bounds.height, frame.height, own && own.y + own.height / 2, true),
    zoom,
  };
}

function isWithin(shift: number, at: number, room: number, zoom: number): boolean {
  const place = shift + at * zoom;
  return place > EDGE + 60 && place < room - EDGE - 60;
}

/** All of the drawing, however small. */
export function whole(placed: Placed, frame: Size): Seen {
  const { bounds } = placed;
  const zoom = Math.max(SMALLEST, Math.min(MOST_AT_FIRST, frame.width / bounds.width, frame.height / bounds.height));
  return {
    x: (frame.width - bounds.width * zoom) / 2 - bounds.x * zoom,
    y: (frame.height - bounds.height * zoom) / 2 - bounds.y * zoom,
    zoom,
  };
}

/** Whether a box is in the frame, all of it. */
export function sees(seen: Seen, frame: Size, box: Box): boolean {
  const left = box.x * seen.zoom + seen.x;
  const top = box.y * seen.zoom + seen.y;
  return left >= 0 && top >= 0 && left + box.width * seen.zoom <= frame.width && top + box.height * seen.zoom <= frame.height;
}

/** The step a key leads to: right and left follow connections, down and up the order of the file. */
export function next(key: string, from: DrawnNode, steps: DrawnNode[], edges: DrawnEdge[]): string | undefined {
  const place = steps.findIndex((n) => n.id === from.id);
  const there = new Set(steps.map((n) => n.id));
  switch (key) {
    case "ArrowRight":
      return edges.find((e) => e.source === from.id && there.has(e.target))?.target;
    case "ArrowLeft":
      return edges.find((e) => e.target === from.id && there.has(e.source))?.source;
    case "ArrowDown":
      return steps[place + 1]?.id;
    case "ArrowUp":
      return steps[place - 1]?.id;
    case "Home":
      return steps[0]?.id;
    case "End":
      return steps.at(-1)?.id;
    default:
      return undefined;
  }
}

/** What is drawn of one side of a comparison. */
export type Side = "before" | "both" | "after";

export function visible(drawing: Drawing, side: Side): Drawing {
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
export function owner(drawing: Drawing, part: string): string {
  for (let path = part; path && path !== "/"; path = path.slice(0, path.lastIndexOf("/"))) {
    const node = drawing.nodes.find((n) => n.part === path);
    if (node) return node.id;
    const edge = drawing.edges.find((e) => e.part === path && e.state !== "was") ?? drawing.edges.find((e) => e.part === path);
    if (edge) return edge.id;
  }
  return "";
}
