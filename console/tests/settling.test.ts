import { describe, expect, test } from "vitest";
import { against, asText, linesOf, takenOf, written } from "../src/features/settle/model";
import { edited, lines, numbers } from "./random";

describe("a value of a conflict", () => {
  test("is shown in lines", () => {
    expect(linesOf("a\nb")).toEqual(["a", "b"]);
    expect(linesOf([1, "two", null])).toEqual(["1", "two", "empty"]);
    expect(linesOf({ delay: 30, to: ["a"] })).toEqual(["delay: 30", 'to: ["a"]']);
    expect(linesOf(undefined)).toEqual([]);
    expect(linesOf(7)).toEqual(["7"]);
  });

  test("stays what it was when a person wrote it", () => {
    expect(written("30", 20)).toBe(30);
    expect(written("30", "20")).toBe("30");
    expect(written("{not json", { a: 1 })).toBe("{not json");
    for (const value of [3, [1, 2], { a: { b: null } }, true]) expect(written(asText(value), value)).toEqual(value);
  });

  test("against the base loses no line of either", () => {
    for (let seed = 1; seed <= 40; seed++) {
      const next = numbers(seed);
      const base = lines(next, 40);
      const side = edited(next, base);
      const rows = against(base, side);
      expect(rows.filter((row) => row.state !== "added").map((row) => row.text)).toEqual(base);
      expect(rows.filter((row) => row.state !== "removed").map((row) => row.text)).toEqual(side);
    }
  });

  test("is named by the branch it was taken of", () => {
    const merge = { target: "main", source: "tobias/hourly" };
    expect(["target", "source", "both"].map((take) => takenOf(merge, take))).toEqual(["main", "tobias/hourly", "both"]);
  });
});
