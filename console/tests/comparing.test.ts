import { diff } from "@codemirror/merge";
import { describe, expect, test } from "vitest";
import type { Finding } from "../src/api/queries";
import { byType, plural, told } from "../src/features/compare/model";
import { inlinePieces, wordPieces } from "../src/features/compare/words";
import { aligned } from "../src/features/settle/aligned";
import { originsOf } from "../src/features/settle/origins";
import { wholeWords } from "../src/features/text/wholeWords";
import { edited, lines, numbers } from "./random";

const joined = (pieces: { text: string }[]) => pieces.map((piece) => piece.text).join("");

describe("lines of two texts", () => {
  test("are level where they are equal, and in order", () => {
    for (let seed = 1; seed <= 60; seed++) {
      const next = numbers(seed);
      const before = lines(next, 60);
      const after = edited(next, before);
      const pairs = aligned(before, after);
      for (const [i, j] of pairs) expect(before[i]).toBe(after[j]);
      pairs.slice(1).forEach(([i, j], k) => {
        const [x, y] = pairs[k] ?? [0, 0];
        expect(i > x && j > y).toBe(true);
      });
    }
  });
});

describe("words of two texts", () => {
  test("lose nothing of either text", () => {
    for (let seed = 1; seed <= 80; seed++) {
      const next = numbers(seed);
      const before = lines(next, 9).join(" ");
      const after = edited(next, before.split(" ")).join(" ");
      const [old, now] = wordPieces(before, after);
      expect([joined(old), joined(now)]).toEqual([before, after]);
      const inline = inlinePieces(before, after);
      expect(joined(inline.filter((piece) => piece.side !== "after"))).toBe(before);
      expect(joined(inline.filter((piece) => piece.side !== "before"))).toBe(after);
    }
  });

  test("mark only what differs", () => {
    const [old, now] = wordPieces("delay over 30 minutes", "delay over 20 minutes");
    expect(old.filter((piece) => piece.own).map((piece) => piece.text)).toEqual(["30"]);
    expect(now.filter((piece) => piece.own).map((piece) => piece.text)).toEqual(["20"]);
  });

  test("with hardly one in common are marked whole", () => {
    expect(wordPieces("the night boat sails at ten", "refunds go through the purser now")[0]).toHaveLength(1);
  });
});

describe("a merged text", () => {
  test("says of each line where it is from, and of each one that went, who removed it", () => {
    const rows = originsOf("a\nb\nc\nd", "a\nB\nc\nd", "a\nb\nc\nnew", "a\nB\nc\nnew");
    const said = rows.map((row) => [row.text, row.origin, row.by ?? ""]);
    expect(said).toEqual([
      ["a", "base", ""],
      ["b", "gone", "target"],
      ["B", "target", ""],
      ["c", "base", ""],
      ["d", "gone", "source"],
      ["new", "source", ""],
    ]);
  });
});

describe("findings", () => {
  const finding = (given: Partial<Finding>) => ({ type: "step", action: "changed", before: null, after: null, ...given }) as Finding;

  test("are told with both values", () => {
    expect(told(finding({ field: "delay", before: 30, after: 20 }))).toEqual({ lead: "delay", before: "30", after: "20" });
    expect(told(finding({ action: "added", after: { retries: 3 } }))).toEqual({ lead: "step added", before: null, after: "retries 3" });
    expect(told(finding({ action: "removed", before: null }))).toEqual({ lead: "step removed", before: null, after: null });
  });

  test("are grouped by their type, in the plural", () => {
    const groups = byType([finding({}), finding({ type: "property" }), finding({})]);
    expect(groups.map(([type, list]) => [type, list.length])).toEqual([
      ["step", 2],
      ["property", 1],
    ]);
    expect(["step", "property", "class", "rows"].map((type) => plural(type, 2))).toEqual(["steps", "properties", "class", "rows"]);
    expect(plural("property", 1)).toBe("property");
  });
});

describe("differences by whole words", () => {
  const of = (a: string, b: string) => {
    const changes = wholeWords(a, b, diff(a, b));
    return [changes.map((one) => a.slice(one.fromA, one.toA)), changes.map((one) => b.slice(one.fromB, one.toB))];
  };
  test("mark words, not letters", () => {
    expect(of("delay > 30 min", "delay > 20 min")).toEqual([["30"], ["20"]]);
    expect(of("leave at eight today", "leave at nine today")).toEqual([["eight"], ["nine"]]);
    expect(of("kept", "kept")).toEqual([[], []]);
  });

  test("leave both texts the same outside of them", () => {
    for (let seed = 1; seed <= 60; seed++) {
      const next = numbers(seed);
      const before = lines(next, 30);
      const [a, b] = [before.join("\n"), edited(next, before).join("\n")];
      let [i, j] = [0, 0];
      for (const one of [...wholeWords(a, b, diff(a, b)), { fromA: a.length, toA: a.length, fromB: b.length, toB: b.length }]) {
        expect(a.slice(i, one.fromA)).toBe(b.slice(j, one.fromB));
        expect(one.fromA >= i && one.fromB >= j).toBe(true);
        [i, j] = [one.toA, one.toB];
      }
    }
  });
});
