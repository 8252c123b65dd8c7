import { describe, expect, test } from "vitest";
import type { Lineage } from "../src/features/uses/lineage";
import { placed } from "../src/features/uses/lineage";
import { addressOf, beside, MOST_IN_LEVEL, nameOf, picture, type Uses } from "../src/features/uses/model";

const using = (artifact: string, level: number, through: string[], shelf = "ferries") =>
  ({
    artifact,
    level,
    through,
    shelf,
    kind: "script",
    place: "",
    label: "",
    verb: "reads",
    exact: true,
    effect: "alters",
    part: "",
    runs_in: [],
  }) as const;
const told = (used_by: object[]) => ({ shelf: "ferries", artifact: "fares.csv", used_by, uses: [] }) as unknown as Uses;

describe("uses as a drawing", () => {
  test("have a column for each level, and a line for each way there", () => {
    const drawn = picture(told([using("a.py", 1, ["fares.csv"]), using("b.py", 1, ["fares.csv"]), using("report.md", 2, ["b.py"])]), "by");
    expect(drawn.levels).toEqual([1, 2]);
    expect(drawn.lines).toContainEqual({ from: "b.py", to: "report.md", effect: "alters", exact: true });
    expect(drawn.rows).toBe(2);
  });

  test("say how many of a level are not drawn", () => {
    const many = Array.from({ length: MOST_IN_LEVEL + 5 }, (_, n) => using(`s${n}.py`, 1, ["fares.csv"]));
    const drawn = picture(told(many), "by");
    expect(drawn.boxes).toHaveLength(MOST_IN_LEVEL);
    expect(drawn.left.get(1)).toBe(5);
  });

  test("are walked by the arrow keys", () => {
    const { boxes } = picture(told([using("a.py", 1, ["fares.csv"]), using("b.py", 1, ["fares.csv"]), using("c.md", 2, ["b.py"])]), "by");
    const first = beside(boxes, null, "ArrowDown");
    expect(first?.id).toBe("a.py");
    expect(beside(boxes, first, "ArrowDown")?.id).toBe("b.py");
    expect(beside(boxes, first, "ArrowUp")?.id).toBe("a.py");
    expect(beside(boxes, first, "ArrowRight")?.id).toBe("c.md");
    expect(beside(boxes, first, "ArrowLeft")?.id).toBe("a.py");
  });

  test("of another shelf are named and reached there", () => {
    const other = { shelf: "tickets", artifact: "sales.csv" };
    expect(nameOf(other, "ferries")).toBe("tickets: sales.csv");
    expect(addressOf(other, "ferries", "tag:spring-1")).toBe("/s/tickets/artifact?path=sales.csv");
    expect(addressOf({ shelf: "ferries", artifact: "a b.csv" }, "ferries", "tag:spring-1")).toBe(
      "/s/ferries/artifact?path=a+b.csv&ref=tag%3Aspring-1",
    );
  });
});

test("a lineage has versions and steps in turn, from left to right", () => {
  const drawn = placed({
    versions: [
      { id: "v1", distance: 0 },
      { id: "v2", distance: 1 },
    ],
    steps: [{ id: "s1", distance: 0, reads: ["v1"], writes: ["v2"] }],
  } as unknown as Lineage);
  expect(["v1", "s1", "v2"].map((id) => drawn.places.get(id)?.column)).toEqual([0, 1, 2]);
  expect(drawn.lines).toEqual([
    ["v1", "s1"],
    ["s1", "v2"],
  ]);
});
