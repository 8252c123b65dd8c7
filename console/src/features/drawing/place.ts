/** Where everything in a drawing stands as the file's own program drew it; pure. */
import { type Box, boundsOf, type Drawing, type DrawnNode, elbow, middles, type Placed, type Point, SIZES } from "./geometry";

const MOVED = 4;

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
