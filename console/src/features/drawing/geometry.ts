/** Boxes, lines and what is round them; pure. */
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

export const SIZES: Record<string, [number, number]> = {
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

/** A frame or lane: behind everything else, and nothing that can be chosen. */
export function isBehind(node: DrawnNode): boolean {
  return node.shape === "frame" || node.shape === "lane";
}

/** What is round all of it, with a margin. */
export function boundsOf(boxes: Box[], points: Point[]): Box {
  const xs = [...boxes.flatMap((b) => [b.x, b.x + b.width]), ...points.map((p) => p.x)];
  const ys = [...boxes.flatMap((b) => [b.y, b.y + b.height + 18]), ...points.map((p) => p.y)];
  const least = (list: number[], or: number) => list.reduce((a, b) => Math.min(a, b), or);
  const most = (list: number[], or: number) => list.reduce((a, b) => Math.max(a, b), or);
  const x = least(xs, xs[0] ?? 0);
  const y = least(ys, ys[0] ?? 0);
  return { x: x - MARGIN, y: y - MARGIN, width: most(xs, x) - x + 2 * MARGIN, height: most(ys, y) - y + 2 * MARGIN };
}

/** A course of right angles from one box to another. */
export function elbow(a: Box, b: Box): Point[] {
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
export function middles(lines: Map<string, Point[]>): Map<string, Point> {
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
