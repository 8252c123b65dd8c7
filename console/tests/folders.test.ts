import { describe, expect, test } from "vitest";
import { above, type Folder, shownPath, sinceDay, treeOf } from "../src/features/shelf/folders";
import { numbers } from "./random";

describe("folders as a tree", () => {
  test("count what is below them, once", () => {
    const random = numbers(3);
    const folders = Array.from({ length: 60 }, (_, n) => ({
      folder: Array.from({ length: 1 + Math.floor(random() * 4) }, () => "abc"[Math.floor(random() * 3)]).join("/"),
      count: n + 1,
    }));
    const below = (path: string) =>
      folders.filter((one) => one.folder === path || one.folder.startsWith(`${path}/`)).reduce((sum, one) => sum + one.count, 0);
    const walk = (list: Folder[]): Folder[] => list.flatMap((one) => [one, ...walk(one.inside)]);
    const all = walk(treeOf(folders));
    for (const one of all) expect(one.count).toBe(below(one.path));
    expect(new Set(all.map((one) => one.path)).size).toBe(all.length);
  });

  test("have those between that hold nothing themselves, and no root", () => {
    expect(
      treeOf([
        { folder: "", count: 4 },
        { folder: "a/b/c", count: 2 },
      ]),
    ).toEqual([
      {
        path: "a",
        name: "a",
        count: 2,
        inside: [{ path: "a/b", name: "b", count: 2, inside: [{ path: "a/b/c", name: "c", count: 2, inside: [] }] }],
      },
    ]);
    expect(above("a/b/c")).toEqual(["a", "a/b", "a/b/c"]);
    expect(above("")).toEqual([]);
  });
});

describe("what a list shows", () => {
  test("paths from the folder that is looked at", () => {
    expect(shownPath("data/tides/north.csv", "")).toEqual(["data/tides/", "north.csv"]);
    expect(shownPath("data/tides/north.csv", "data")).toEqual(["tides/", "north.csv"]);
    expect(shownPath("database/a.csv", "data")).toEqual(["database/", "a.csv"]);
    expect(shownPath("fares.csv", "")).toEqual(["", "fares.csv"]);
  });

  test("begins with a day of the reader's own", () => {
    const now = new Date(2026, 2, 3, 15, 20);
    expect(new Date(sinceDay("today", now))).toEqual(new Date(2026, 2, 3));
    expect(new Date(sinceDay("week", now))).toEqual(new Date(2026, 1, 24));
    expect(sinceDay("2026-01-05", now)).toBe("2026-01-05");
    expect(sinceDay("some day", now)).toBe("");
  });
});
