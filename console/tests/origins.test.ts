import { expect, test } from "vitest";
import { type OriginCommit, type Origins, setBy } from "../src/features/origins/model";

const commit = (author: string): OriginCommit => ({
  version: 1,
  commit: author,
  author,
  recorded: "2026-03-01T08:00:00Z",
  summary: "",
  tasks: [],
  path: "",
  merge: false,
  others: 0,
});
const part = (path: string, set: string, own: string) => ({ path, type: "step", label: path, depth: 0, set, own, fields: [] });

test("each part has the commit that last set it or one of its fields; one that is not told has none", () => {
  const found: Origins = {
    path: "p.json",
    version: 2,
    kind: "pipeline",
    form: "parts",
    note: "",
    total: 3,
    start: 0,
    versions: 2,
    moves: 0,
    merges: 0,
    commits: { b1: commit("maren"), b2: commit("ines") },
    parts: [part("/step:load", "b1", "b1"), part("/step:join", "b2", "b1"), part("/step:lost", "b9", "b9")],
  };
  expect([...setBy(found)].map(([path, one]) => [path, one.author])).toEqual([
    ["/step:load", "maren"],
    ["/step:join", "ines"],
  ]);
});
