import { describe, expect, test } from "vitest";
import { asDrawn, type Drawing, type DrawnEdge, type DrawnNode, type Placed } from "../src/features/drawing/place";
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
