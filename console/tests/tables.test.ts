import { describe, expect, test } from "vitest";
import { asCsv, cellOf, mostTried, numberOf, shown, sorted, took } from "../src/features/experiments/model";
import type { Column, Experiment, Run } from "../src/features/experiments/queries";
import { type ComparedTable, isNumber, lanes, type Row, sameBetween, short } from "../src/features/table/model";

describe("columns of two tables", () => {
  const table = (given: object) =>
    ({
      schema: { before: [], after: [] },
      columns: { added: [], removed: [], renamed: [], retyped: [], widened: [], narrowed: [] },
      key: [],
      ...given,
    }) as unknown as ComparedTable;
  const column = (name: string, type = "varchar") => ({ name, type });

  test("are in the newer order, a removed one after its old neighbour", () => {
    const found = lanes(
      table({
        schema: {
          before: [column("zone"), column("old"), column("fare", "int32")],
          after: [column("zone"), column("price", "int64"), column("since")],
        },
        columns: { added: ["since"], removed: ["old"], renamed: [["fare", "price"]], retyped: [], widened: ["price"], narrowed: [] },
        key: ["zone"],
      }),
    );
    expect(found.map((lane) => [lane.name, lane.became])).toEqual([
      ["zone", "same"],
      ["old", "removed"],
      ["price", "moved"],
      ["since", "added"],
    ]);
    expect(found[2]).toMatchObject({ was: "fare", oldType: "int32", oldAt: 2, newAt: 1 });
    expect(found[0]).toMatchObject({ isKey: true, leads: true });
  });

  test("rows that are the same between two that differ are counted in the newer table", () => {
    const row = (at: number | null) => ({ rows: [null, at] }) as unknown as Row;
    expect(sameBetween(row(4), row(10))).toBe(5);
    expect(sameBetween(row(4), row(5))).toBe(0);
    expect(sameBetween(row(null), row(5))).toBe(0);
  });

  test("numbers are short, and known by their type", () => {
    expect([0, 3.41159, 12_345.6, 1e18, 0.00001].map(short)).toEqual(["0", "3.412", "12\u202f346", "1.00e+18", "1.00e-5"]);
    expect(["int64", "decimal(9,2)", "double"].every(isNumber)).toBe(true);
    expect(["varchar", "date", "interval"].some(isNumber)).toBe(false);
  });
});

describe("runs of an experiment", () => {
  const depth: Column = { group: "parameters", name: "depth", unit: "" } as Column;
  const error: Column = { group: "metrics", name: "error", unit: "min" } as Column;
  const run = (number: number, values: { depth?: number; error?: number }, branch = "ines/tide") =>
    ({
      number,
      branch,
      commit: `c${number}`,
      state: "done",
      began: "2026-03-04T09:00:00Z",
      took_seconds: number,
      cells: {
        reads: {},
        parameters: values.depth === undefined ? {} : { depth: { value: values.depth, differs: false } },
        metrics: values.error === undefined ? {} : { error: { value: values.error, differs: false } },
      },
    }) as unknown as Run;
  const runs = [run(1, { depth: 4, error: 3.412 }), run(2, { depth: 10 }), run(3, { depth: 6, error: 2.9 }, "maren/x")];

  test("are sorted by any column, those without a value last either way", () => {
    expect(sorted(runs, [error], { column: "metrics error", down: false }).map((one) => one.number)).toEqual([3, 1, 2]);
    expect(sorted(runs, [error], { column: "metrics error", down: true }).map((one) => one.number)).toEqual([1, 3, 2]);
    expect(sorted(runs, [], null).map((one) => one.number)).toEqual([1, 2, 3]);
    expect(runs.map((one) => one.number)).toEqual([1, 2, 3]); // the given list stays as it was
  });

  test("show a value in four digits that count, or a dash", () => {
    expect(shown(error, 3.41234)).toBe("3.412");
    expect(shown(error, null)).toBe("–");
    expect(shown({ ...depth, group: "reads" }, 4)).toBe("v4");
    expect(numberOf(runs[1] as Run, error)).toBeNull();
    expect(cellOf(runs[0] as Run, depth)?.value).toBe(4);
  });

  test("are saved so that a spreadsheet runs nothing", () => {
    const csv = asCsv([depth], [run(1, { depth: 4 }, "=cmd()")], false);
    expect(csv.split("\n")[1]).not.toMatch(/(^|,)=/);
  });

  test("took as long as a person would say", () => {
    expect([0.42, 12, 89, 90, 5400, null].map(took)).toEqual(["0.4 s", "12 s", "89 s", "2 min", "1.5 h", ""]);
  });

  test("the parameter tried most is the one drawn", () => {
    expect(mostTried({ runs } as Experiment, [error, depth])?.name).toBe("depth");
  });
});
