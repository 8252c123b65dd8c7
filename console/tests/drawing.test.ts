import { describe, expect, test } from "vitest";
import { inColumns } from "../src/features/drawing/columns";
import type { Box, Drawing, DrawnEdge, DrawnNode, Placed } from "../src/features/drawing/geometry";
import { asDrawn } from "../src/features/drawing/place";
import { next, owner, READABLE, sees, shownAtFirst, visible, whole } from "../src/features/drawing/view";
import { numbers } from "./random";

const step = (id: string, more: Partial<DrawnNode> = {}): DrawnNode => ({
  id,
  part: `/steps/${id}`,
  key: id,
  moved: false,
  type: "step",
  label: id,
  before_label: null,
  detail: "",
  shape: "step",
  state: "same",
  group: "",
  before: null,
  after: null,
  ...more,
});
const edge = (source: string, target: string, more: Partial<DrawnEdge> = {}): DrawnEdge => ({
  id: `${source}>${target}`,
  part: `/flows/${source}${target}`,
  source,
  target,
  label: "",
  conditional: false,
  state: "same",
  points: [],
  ...more,
});
const drawingOf = (nodes: DrawnNode[], edges: DrawnEdge[] = []): Drawing => ({ nodes, edges, placed: true, note: "" });
const boxed = (x: number, y: number, width: number, height: number): Placed => ({
  boxes: new Map([["a", { x, y, width: 100, height: 60 }]]),
  ghosts: new Map(),
  lines: new Map(),
  labels: new Map(),
  bounds: { x, y, width, height },
});

describe("what is in sight", () => {
  test("at first all of a small drawing, in the middle", () => {
    const seen = shownAtFirst(boxed(-40, 10, 400, 200), { width: 800, height: 400 }, "");
    expect(seen.zoom).toBeCloseTo(1.1);
    expect(-40 * seen.zoom + seen.x).toBeCloseTo((800 - 400 * seen.zoom) / 2);
  });

  test("never so small that names cannot be read, and from its beginning", () => {
    const placed = boxed(50, 0, 6000, 200);
    const seen = shownAtFirst(placed, { width: 800, height: 400 }, "");
    expect(seen.zoom).toBe(READABLE);
    expect(50 * seen.zoom + seen.x).toBeCloseTo(0);
  });

  test("what is chosen is in it, wherever it is", () => {
    const random = numbers(7);
    const upTo = (most: number) => Math.floor(random() * most);
    for (let n = 0; n < 80; n++) {
      const placed = boxed(0, 0, 200 + upTo(5000), 200 + upTo(5000));
      const own = { x: upTo(placed.bounds.width - 100), y: upTo(placed.bounds.height - 60), width: 100, height: 60 };
      placed.boxes.set("own", own);
      const frame = { width: 500 + upTo(600), height: 300 + upTo(200) };
      expect(sees(shownAtFirst(placed, frame, "own"), frame, own)).toBe(true);
      expect(sees(whole(placed, frame), frame, own)).toBe(true);
    }
  });
});

describe("keys in a drawing", () => {
  const steps = [step("a"), step("b"), step("c")];
  const edges = [edge("a", "c"), edge("c", "b"), edge("b", "elsewhere")];
  const to = (key: string, from: DrawnNode) => next(key, from, steps, edges);
  test("follow connections and the order of the file, and stop at the ends", () => {
    const [a, b, c] = steps as [DrawnNode, DrawnNode, DrawnNode];
    expect([to("ArrowRight", a), to("ArrowLeft", b), to("ArrowDown", a), to("ArrowUp", c)]).toEqual(["c", "c", "b", "b"]);
    expect([to("ArrowRight", b), to("ArrowUp", a), to("ArrowDown", c), to("x", a)]).toEqual([undefined, undefined, undefined, undefined]);
    expect([to("Home", c), to("End", a)]).toEqual(["a", "c"]);
  });
});

describe("one side of a comparison", () => {
  const drawing = drawingOf(
    [step("kept", { before_label: "old name" }), step("new", { state: "added" }), step("gone", { state: "removed" })],
    [edge("kept", "new", { state: "added" }), edge("gone", "kept", { state: "removed" })],
  );
  test("has what that version has, under its names", () => {
    expect(visible(drawing, "before").nodes.map((n) => n.label)).toEqual(["old name", "gone"]);
    expect(visible(drawing, "after").nodes.map((n) => n.id)).toEqual(["kept", "new"]);
    expect(visible(drawing, "before").edges.map((e) => e.id)).toEqual(["gone>kept"]);
    expect(visible(drawing, "both")).toBe(drawing);
  });

  test("a field belongs to the step that holds it", () => {
    expect(owner(drawing, "/steps/kept/inputs/2")).toBe("kept");
    expect(owner(drawing, "/flows/keptnew/condition")).toBe("kept>new");
    expect(owner(drawing, "/elsewhere")).toBe("");
  });
});

describe("places of the file", () => {
  test("a drawing moved as a whole has not moved", () => {
    const at = (x: number, y: number) => ({ x, y, width: 100, height: 60 });
    const nodes = ["a", "b", "c"].map((id, n) => step(id, { before: at(n * 200, 0), after: at(n * 200 + 70, 30) }));
    nodes.push(step("d", { before: at(600, 0), after: at(900, 300) }));
    expect([...asDrawn(drawingOf(nodes)).ghosts.keys()]).toEqual(["d"]);
  });
});

describe("thousands of steps", () => {
  const overlap = (a: Box, b: Box) => a.x < b.x + b.width && b.x < a.x + a.width && a.y < b.y + b.height && b.y < a.y + a.height;
  const none = (boxes: Box[]) => {
    const sorted = [...boxes].sort((a, b) => a.x - b.x);
    sorted.forEach((a, n) => {
      for (let m = n + 1; m < sorted.length && (sorted[m]?.x ?? 0) < a.x + a.width; m++) {
        const b = sorted[m];
        if (b && overlap(a, b)) throw new Error(`${a.x},${a.y} lies over ${b.x},${b.y}`);
      }
    });
  };

  test("lie apart in a window's shape, a tree, a chain and a mesh with circles alike", () => {
    const random = numbers(11);
    const steps = Array.from({ length: 3000 }, (_, n) => step(`s${n}`));
    const any = () => `s${Math.floor(random() * 3000)}`;
    for (const edges of [
      steps.slice(1).map((one, n) => edge(`s${Math.floor((n + 1) / 2)}`, one.id)),
      steps.slice(1).map((one, n) => edge(`s${n}`, one.id)),
      Array.from({ length: 6000 }, () => edge(any(), any())),
      [],
    ]) {
      const { boxes, bounds } = inColumns(drawingOf(steps, edges));
      expect(boxes.size).toBe(3000);
      none([...boxes.values()]);
      expect(bounds.width / bounds.height).toBeGreaterThan(1);
      expect(bounds.width / bounds.height).toBeLessThan(3);
    }
  });

  test("stand behind what leads to them, or in a band below", () => {
    const steps = Array.from({ length: 800 }, (_, n) => step(`s${n}`));
    const edges = steps.slice(1).map((one, n) => edge(`s${Math.floor((n + 1) / 3)}`, one.id));
    const { boxes, lines } = inColumns(drawingOf(steps, edges));
    for (const { source, target } of edges) {
      const [a, b] = [boxes.get(source), boxes.get(target)];
      expect(a && b && (b.x >= a.x + a.width || b.y >= a.y + a.height)).toBe(true);
    }
    expect(lines.size).toBe(edges.length);
  });

  test("lie in their frames, also connected from outside", () => {
    const frame = step("f", { shape: "frame" });
    const inner = step("g", { shape: "frame", group: "f" });
    const steps = [step("a"), frame, inner, step("b", { group: "f" }), step("c", { group: "g" }), step("d", { group: "g" })];
    const { boxes } = inColumns(drawingOf(steps, [edge("a", "b"), edge("b", "c"), edge("c", "d"), edge("d", "f"), edge("f", "a")]));
    const within = (id: string, of: string) => {
      const [a, b] = [boxes.get(id), boxes.get(of)];
      return !!a && !!b && a.x >= b.x && a.y >= b.y && a.x + a.width <= b.x + b.width && a.y + a.height <= b.y + b.height;
    };
    for (const [id, of] of [
      ["b", "f"],
      ["g", "f"],
      ["c", "g"],
      ["d", "g"],
    ] as const)
      expect(within(id, of)).toBe(true);
    expect(within("a", "f")).toBe(false);
  });
});
