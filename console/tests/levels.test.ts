import { describe, expect, test } from "vitest";
import { inSight, smallEnough, wayTo } from "../src/parts/levels";

const leaf = (id: string) => ({ id, inside: [] });
const many = Array.from({ length: 500 }, (_, n) => ({ id: `f${n}`, inside: [leaf(`f${n}/in`)] }));

describe("a level of a long tree", () => {
  test("is drawn in steps, and always as far as what is chosen", () => {
    expect(inSight(many, 0, [])).toMatchObject({ shown: { length: 40 }, left: 460 });
    expect(inSight(many, 1, [])).toMatchObject({ shown: { length: 240 }, left: 260 });
    expect(inSight(many, 0, wayTo(many, "f200/in"))).toMatchObject({ shown: { length: 201 }, left: 299 });
    expect(inSight(many, 9, [])).toMatchObject({ shown: { length: 500 }, left: 0 });
  });

  test("of a few more than are drawn at first is drawn whole", () => {
    expect(inSight(many.slice(0, 48), 0, [])).toMatchObject({ shown: { length: 48 }, left: 0 });
  });
});

describe("the way to an item", () => {
  test("names all it lies in, outermost first", () => {
    expect(wayTo(many, "f7/in")).toEqual(["f7", "f7/in"]);
    expect(wayTo(many, "elsewhere")).toEqual([]);
  });
});

describe("a tree", () => {
  test("is open at first if all of it can be seen at a glance", () => {
    expect(smallEnough(many.slice(0, 50))).toHaveLength(50);
    expect(smallEnough(many)).toEqual([]);
  });
});
