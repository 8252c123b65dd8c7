import { describe, expect, test } from "vitest";
import { arrange, firstOf, type LineCommit, tagNames } from "../src/features/branches/lines";
import { numbers } from "./random";

const commit = (id: string, parents: string[], branches: string[] = []) =>
  ({ commit: id, parents, branches, author: "ines" }) as LineCommit;

describe("lines of branches", () => {
  test("main is the ground, a branch leaves it upwards and comes back", () => {
    const drawn = arrange(
      [commit("d", ["c", "x"], ["main"]), commit("x", ["b"]), commit("c", ["b"]), commit("b", ["a"]), commit("a", [])],
      "main",
    );
    expect(["a", "b", "c", "d"].map((id) => drawn.placed.get(id)?.lane)).toEqual([0, 0, 0, 0]);
    expect(drawn.placed.get("x")?.lane).toBe(1);
    expect(drawn.lanes.find((lane) => lane.lane === 1)).toMatchObject({ from: 1, to: 4, gone: true });
  });

  test("names of tags on one line never lie over each other, and each begins at its commit where there is room", () => {
    const tagged = (id: string, parents: string[], tags: string[]) => ({ ...commit(id, parents, id === "d" ? ["main"] : []), tags });
    const { placed } = arrange(
      [tagged("d", ["c"], ["late"]), tagged("c", ["b"], ["bookings-2", "b2"]), tagged("b", ["a"], ["bookings-1"]), tagged("a", [], [])],
      "main",
    );
    const names = tagNames(placed.values(), (x) => x * 26, 7);
    expect(names.map((one) => one.tag)).toEqual(["bookings-1", "bookings-2", "b2", "late"]);
    expect(names[0]).toMatchObject({ mark: 26, start: 29 });
    for (let n = 1; n < names.length; n++) {
      const before = names[n - 1];
      expect(names[n]?.start).toBeGreaterThanOrEqual((before?.start ?? 0) + (before?.tag.length ?? 0) * 7);
    }
  });

  test("of many tags of one commit the first are named, and how many more there are", () => {
    const many = { ...commit("a", [], ["main"]), tags: ["t1", "t2", "t3", "t4", "t5", "t6"] };
    const names = tagNames(arrange([many], "main").placed.values(), (x) => x, 7).map((one) => one.tag);
    expect(names).toEqual(["t1", "t2", "t3", "t4", "and 2 more"]);
    expect(firstOf(["a", "b"], 2)).toEqual(["a", "b"]);
  });

  test("every commit has one place, none shares it, and time goes to the right", () => {
    for (let seed = 1; seed <= 40; seed++) {
      const next = numbers(seed);
      const commits: LineCommit[] = [];
      const heads = new Map<string, string>();
      for (let n = 0; n < 60; n++) {
        const branch = ["main", "ines/a", "tobias/b", "maren/c"][Math.floor(next() * 4)] ?? "main";
        const from = heads.get(branch) ?? heads.get("main");
        const merged = next() < 0.15 ? heads.get("ines/a") : undefined;
        const parents = [from, merged].filter((id): id is string => Boolean(id));
        commits.unshift(commit(`c${n}`, [...new Set(parents)]));
        heads.set(branch, `c${n}`);
      }
      for (const [name, id] of heads) commits.find((one) => one.commit === id)?.branches.push(name);
      const { placed } = arrange(commits, "main");
      expect(placed.size).toBe(commits.length);
      const spots = [...placed.values()].map((one) => `${one.x} ${one.lane}`);
      expect(new Set(spots).size).toBe(spots.length);
      for (const one of placed.values()) for (const parent of one.commit.parents) expect(placed.get(parent)?.x ?? -1).toBeLessThan(one.x);
    }
  });

  test("nothing at all is still a drawing", () => {
    expect(arrange([], "main")).toMatchObject({ height: 1 });
  });
});
