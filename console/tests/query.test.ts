import { describe, expect, test } from "vitest";
import { barsOf, isNumeric, MOST_BARS, numericColumns, savedPath } from "../src/features/query/chart";

const answer = {
  columns: [
    { name: "kind", type: "varchar" },
    { name: "n", type: "bigint" },
    { name: "bytes", type: "decimal(18,2)" },
    { name: "seen", type: "timestamp" },
  ],
  rows: [
    ["dataset", "4", "12.50", "2026-01-01"],
    [null, null, "1", null],
  ],
};

describe("rows of a query as bars", () => {
  test("numbers are told by their types", () => {
    expect(["bigint", "integer", "utinyint", "decimal(18,2)", "double", "hugeint"].every(isNumeric)).toBe(true);
    expect(["varchar", "date", "timestamp", "interval", "bigint[]", "decimal(4,1)[]"].filter(isNumeric)).toEqual([]);
    expect(numericColumns(answer)).toEqual(["n", "bytes"]);
  });

  test("the first two columns without numbers name them, and nothing is no bar", () => {
    expect(barsOf(answer, "bytes")).toMatchObject({ names: ["dataset 2026-01-01", " "], values: [12.5, 1], name: "kind, seen", left: 0 });
    expect(barsOf(answer, "n")?.values).toEqual([4, null]);
    expect(barsOf(answer, "kind2")).toBeNull();
    expect(barsOf({ ...answer, rows: [] }, "n")).toBeNull();
  });

  test("rows without a name are numbered, and only so many are drawn", () => {
    const many = { columns: [{ name: "n", type: "double" }], rows: Array.from({ length: 100 }, (_, n) => [String(n)]) };
    const bars = barsOf(many, "n");
    expect(bars?.names.slice(0, 2)).toEqual(["1", "2"]);
    expect([bars?.names.length, bars?.left, bars?.name]).toEqual([MOST_BARS, 100 - MOST_BARS, "row"]);
  });
});

test("a saved query has a path of its own", () => {
  expect(savedPath(" Fares up! ")).toBe("queries/Fares-up.sql");
  expect(savedPath("month/late.sql")).toBe("queries/month/late.sql");
  expect(savedPath("../../x")).toBe("queries/x.sql");
});
