import { expect, test } from "vitest";
import { together } from "../src/features/edit/autosave";
import { misfit } from "../src/features/edit/CellEditor";

const NUMBER = "(?:[-+]?(0|[1-9]\\d*))|(?:[-+]?((0|[1-9]\\d*)(\\.\\d*)?|\\.\\d+)([eE][-+]?\\d+)?)";

test("a word among numbers does not fit; a number, a blank, and anything in a column of texts do", () => {
  expect(misfit("fare", NUMBER, "4.57a11.11")).toContain("does not fit the other values of fare");
  for (const fine of ["4.57", " 12 ", "", "N/A", "-1e3"]) expect(misfit("fare", NUMBER, fine)).toBe("");
  expect(misfit("note", "", "4.57a11.11")).toBe("");
});

test("of one field the newest value is sent, and nothing of the others is lost", () => {
  const typed = ["s", "sa", "sail"].map((value) => ({ parts: [{ part: "steps/1", field: "name", value }] }));
  const other = { parts: [{ part: "steps/2", field: "name", value: "moor" }] };
  const all = [...typed, other].reduce<ReturnType<typeof together> | null>((before, now) => together(before, now), null);
  expect(all?.parts).toEqual([
    { part: "steps/1", field: "name", value: "sail" },
    { part: "steps/2", field: "name", value: "moor" },
  ]);
});

test("a text stands for all there was, and cells are added in the order in which they were typed", () => {
  const cell = (value: string) => ({ row: 0, column: "fare", value, was: "1" });
  expect(together({ text: "old" }, { text: "new" })).toEqual({ text: "new" });
  expect(together({ cells: [cell("2")] }, { cells: [cell("3")] }).cells?.map((one) => one.value)).toEqual(["2", "3"]);
});
