/** A quick layout of thousands of steps: layers by the longest path, folded into columns a window can show; pure.

Layers and their order are the first two steps of Sugiyama's method (Sugiyama, Tagawa, Toda: Methods for visual
understanding of hierarchical system structures, 1981), with one pass of barycentres instead of many. */
import { type Box, boundsOf, type Drawing, type DrawnNode, elbow, middles, type Placed, SIZES } from "./geometry";

const ACROSS = 64;
const DOWN = 26;
/** Width to height of the whole, about that of a window. */
const ASPECT = 1.9;
const PADDING = { top: 34, side: 16 };

interface Sized {
  id: string;
  width: number;
  height: number;
}
interface Laid {
  width: number;
  height: number;
  /** Left upper corners, from that of the group. */
  at: Map<string, { x: number; y: number }>;
}

/** Places for all nodes; those of a frame lie in it. */
export function inColumns(drawing: Drawing): Placed {
  const known = new Map(drawing.nodes.map((node) => [node.id, node]));
  const groupOf = (node: DrawnNode) => (known.has(node.group) ? node.group : "");
  const inside = new Map<string, DrawnNode[]>();
  for (const node of drawing.nodes) add(inside, groupOf(node), node);
  const links = linksByGroup(drawing, known, groupOf);
  const laid = new Map<string, Laid>();
  const sizeOf = (node: DrawnNode): Sized => {
    const [width, height] = SIZES[node.shape] ?? [150, 62];
    if (node.shape !== "frame" || !inside.has(node.id)) return { id: node.id, width, height };
    const own = lay(node.id);
    return { id: node.id, width: Math.max(width, own.width + 2 * PADDING.side), height: own.height + PADDING.top + PADDING.side };
  };
  const sizes = new Map<string, Sized>();
  const lay = (group: string): Laid => {
    const members = (inside.get(group) ?? []).map(sizeOf);
    for (const one of members) sizes.set(one.id, one);
    const made = arrange(members, links.get(group) ?? []);
    laid.set(group, made);
    return made;
  };
  lay("");
  const boxes = new Map<string, Box>();
  const place = (group: string, x: number, y: number) => {
    for (const [id, at] of laid.get(group)?.at ?? []) {
      const size = sizes.get(id);
      if (!size) continue;
      const box = { x: x + at.x, y: y + at.y, width: size.width, height: size.height };
      boxes.set(id, box);
      if (laid.has(id)) place(id, box.x + PADDING.side, box.y + PADDING.top);
    }
  };
  place("", 0, 0);
  const lines: Placed["lines"] = new Map();
  for (const edge of drawing.edges) {
    const [a, b] = [boxes.get(edge.source), boxes.get(edge.target)];
    if (a && b) lines.set(edge.id, elbow(a, b));
  }
  const bounds = boundsOf([...boxes.values()], [...lines.values()].flat());
  return { boxes, ghosts: new Map(), lines, labels: middles(lines), bounds };
}

function add<T>(lists: Map<string, T[]>, key: string, one: T): void {
  const list = lists.get(key);
  if (list) list.push(one);
  else lists.set(key, [one]);
}

/** Connections of each group between its own members: one that crosses frames is between those that hold its ends. */
function linksByGroup(drawing: Drawing, known: Map<string, DrawnNode>, groupOf: (node: DrawnNode) => string) {
  const path = (id: string): string[] => {
    const found: string[] = [];
    for (let node = known.get(id); node && !found.includes(node.id); node = known.get(groupOf(node))) found.unshift(node.id);
    return found;
  };
  const links = new Map<string, [string, string][]>();
  for (const { source, target } of drawing.edges) {
    const [a, b] = [path(source), path(target)];
    const level = a.findIndex((id, n) => id !== b[n]);
    const [from, to] = [a[level], b[level]];
    if (from === undefined || to === undefined) continue; // to itself, or from a frame into itself
    const group = a[level - 1] ?? "";
    add(links, group, [from, to]);
  }
  return links;
}

/** One group: what leads to what stands left of it, in as many bands and columns as a window's shape asks for. */
function arrange(members: Sized[], links: [string, string][]): Laid {
  const before = forward(members, links);
  const columns = folded(inOrder(layered(members, before), before));
  const at: Laid["at"] = new Map();
  let [y, right] = [0, 0];
  for (const band of inBands(columns)) {
    const height = tallest(band);
    let x = 0;
    for (const column of band) {
      const width = widthOf(column);
      let top = y + (height - heightOf(column)) / 2;
      for (const one of column) {
        at.set(one.id, { x: x + (width - one.width) / 2, y: top });
        top += one.height + DOWN;
      }
      x += width + ACROSS;
    }
    right = Math.max(right, x - ACROSS);
    y += height + 2 * DOWN;
  }
  return { width: right, height: Math.max(0, y - 2 * DOWN), at };
}

/** Columns in bands, one below the other, as many as bring the whole nearest to a window's shape. */
function inBands(columns: Sized[][]): Sized[][][] {
  const wide = columns.reduce((sum, column) => sum + widthOf(column) + ACROSS, 0);
  let best = [columns];
  let least = Number.POSITIVE_INFINITY;
  for (let most = wide; ; most *= 0.8) {
    const bands = cutAt(columns, most);
    const tall = bands.reduce((sum, band) => sum + tallest(band) + 2 * DOWN, 0);
    const off = Math.abs(Math.log(most / tall / ASPECT));
    if (off < least) [best, least] = [bands, off];
    if (most <= tall * ASPECT) return best;
  }
}

function cutAt(columns: Sized[][], most: number): Sized[][][] {
  const bands: Sized[][][] = [[]];
  let used = 0;
  for (const column of columns) {
    if (used > 0 && used + widthOf(column) > most) {
      bands.push([]);
      used = 0;
    }
    bands.at(-1)?.push(column);
    used += widthOf(column) + ACROSS;
  }
  return bands;
}

const tallest = (columns: Sized[][]) => Math.max(0, ...columns.map(heightOf));
const widthOf = (column: Sized[]) => Math.max(0, ...column.map((one) => one.width));
const heightOf = (column: Sized[]) => column.reduce((sum, one) => sum + one.height + DOWN, -DOWN);

/** What leads to each member, without the connections that would close a circle. */
function forward(members: Sized[], links: [string, string][]): Map<string, string[]> {
  const after = new Map<string, string[]>(members.map((one) => [one.id, []]));
  for (const [from, to] of links) after.get(from)?.push(to);
  const before = new Map<string, string[]>(members.map((one) => [one.id, []]));
  const state = new Map<string, "open" | "done">();
  for (const { id } of members) {
    if (state.has(id)) continue;
    const way = [{ id, next: 0 }];
    state.set(id, "open");
    for (let last = way.at(-1); last; last = way.at(-1)) {
      const to = after.get(last.id)?.[last.next++];
      if (to === undefined) {
        state.set(last.id, "done");
        way.pop();
        continue;
      }
      if (state.get(to) === "open") continue; // back to where the way came from
      before.get(to)?.push(last.id);
      if (state.has(to)) continue;
      state.set(to, "open");
      way.push({ id: to, next: 0 });
    }
  }
  return before;
}

/** Each member one layer behind the last of what leads to it. */
function layered(members: Sized[], before: Map<string, string[]>): Sized[][] {
  const layer = new Map<string, number>();
  for (const { id } of members) {
    const waiting = [id];
    for (let last = waiting.at(-1); last !== undefined; last = waiting.at(-1)) {
      const missing = layer.has(last) ? undefined : before.get(last)?.find((one) => !layer.has(one));
      if (missing !== undefined) {
        waiting.push(missing);
        continue;
      }
      if (!layer.has(last)) layer.set(last, Math.max(-1, ...(before.get(last) ?? []).map((one) => layer.get(one) ?? 0)) + 1);
      waiting.pop();
    }
  }
  const layers: Sized[][] = [];
  for (const one of members) {
    const number = layer.get(one.id) ?? 0;
    while (layers.length <= number) layers.push([]);
    layers[number]?.push(one);
  }
  return layers;
}

/** Members of a layer in the order of the middle of what leads to them, so that fewer connections cross. */
function inOrder(layers: Sized[][], before: Map<string, string[]>): Sized[][] {
  const place = new Map<string, number>();
  return layers.map((layer) => {
    const wanted = new Map(
      layer.map((one, n) => {
        const from = (before.get(one.id) ?? []).map((id) => place.get(id) ?? 0);
        return [one.id, from.length ? from.reduce((sum, at) => sum + at, 0) / from.length : n / layer.length];
      }),
    );
    const sorted = [...layer].sort((a, b) => (wanted.get(a.id) ?? 0) - (wanted.get(b.id) ?? 0));
    for (const [n, one] of sorted.entries()) place.set(one.id, n / sorted.length);
    return sorted;
  });
}

/** Layers too tall for a window's shape, next to each other in columns. */
function folded(layers: Sized[][]): Sized[][] {
  const area = layers.flat().reduce((sum, one) => sum + (one.width + ACROSS) * (one.height + DOWN), 0);
  const most = Math.max(600, Math.sqrt(area / ASPECT));
  return layers.flatMap((layer) => {
    const columns: Sized[][] = [[]];
    let height = 0;
    for (const one of layer) {
      if (height > 0 && height + one.height > most) {
        columns.push([]);
        height = 0;
      }
      columns.at(-1)?.push(one);
      height += one.height + DOWN;
    }
    return columns;
  });
}
