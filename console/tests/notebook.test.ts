import { describe, expect, test } from "vitest";
import { plain, readNotebook } from "../src/features/notebook/notebook";

const notebook = (cells: unknown[], more: object = {}) => readNotebook(JSON.stringify({ cells, metadata: {}, nbformat: 4, ...more }));
const outputs = (...given: unknown[]) => notebook([{ cell_type: "code", source: "x", outputs: given }]).cells[0]?.outputs;

describe("a notebook", () => {
  test("has sources as one text or as lines, and says what ran", () => {
    const read = notebook(
      [
        { cell_type: "markdown", source: ["# Title\n", "words"] },
        { cell_type: "code", source: "a = 1", execution_count: 3, outputs: [] },
        { cell_type: "code", source: "b", execution_count: null },
        { cell_type: "something new", source: "c" },
      ],
      { metadata: { language_info: { name: "R" } } },
    );
    expect(read.language).toBe("r");
    expect(read.cells.map((cell) => [cell.type, cell.source, cell.count])).toEqual([
      ["markdown", "# Title\nwords", null],
      ["code", "a = 1", 3],
      ["code", "b", null],
      ["raw", "c", null],
    ]);
  });

  test("of the third form of the format is read too", () => {
    const old = readNotebook(
      JSON.stringify({
        nbformat: 3,
        worksheets: [
          {
            cells: [
              { cell_type: "heading", level: 2, source: ["Berths"] },
              { cell_type: "code", input: ["n = 1\n", "n"], prompt_number: 4, outputs: [{ output_type: "pyout", text: ["1"] }] },
            ],
          },
        ],
      }),
    );
    expect(old.cells.map((cell) => cell.source)).toEqual(["## Berths", "n = 1\nn"]);
    expect(old.cells[1]).toMatchObject({ count: 4, outputs: [{ form: "text", text: "1" }] });
  });

  test("shows the richest form of an output", () => {
    expect(outputs({ output_type: "display_data", data: { "text/plain": "<Figure>", "image/png": ["AA\n", "BB\n"] } })).toEqual([
      { form: "picture", src: "data:image/png;base64,AABB" },
    ]);
    expect(outputs({ output_type: "execute_result", data: { "text/plain": "t", "text/html": ["<b>", "x</b>"] } })).toEqual([
      { form: "html", text: "<b>x</b>" },
    ]);
    expect(outputs({ output_type: "execute_result", data: { "application/json": { a: 1 } } })).toEqual([
      { form: "text", text: '{\n  "a": 1\n}', isError: false },
    ]);
    expect(outputs({ output_type: "stream", name: "stderr", text: ["careful\n"] })).toEqual([
      { form: "text", text: "careful\n", isError: true },
    ]);
    expect(outputs({ output_type: "error", ename: "KeyError", evalue: "'fare'", traceback: [] })).toEqual([
      { form: "text", text: "KeyError: 'fare'", isError: true },
    ]);
    expect(outputs({ output_type: "display_data", data: {} }, { output_type: "unknown" })).toEqual([]);
  });

  test("that is none says so, whatever it is", () => {
    for (const wrong of ["", "[1]", "null", "7", "{"]) expect(() => readNotebook(wrong)).toThrow();
    expect(readNotebook('{"cells": [1, null, {"source": 5}], "metadata": []}').cells).toHaveLength(1);
  });
});

test("text without what only a terminal understands", () => {
  expect(plain("\u001b[0;31mKeyError\u001b[0m: x")).toBe("KeyError: x");
  expect(plain("10%\r50%\r100%\nready\r\n")).toBe("100%\nready\n");
});
