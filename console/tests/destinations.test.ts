import { describe, expect, test } from "vitest";
import { matching, pagesOf } from "../src/shell/destinations";

describe("where typing leads", () => {
  const all = pagesOf("ferries");
  const names = (typed: string) => matching(all, typed).map((one) => one.name);

  test("is every page of the shelf that is open, and one's own", () => {
    expect(all.find((one) => one.name === "History")?.to).toBe("/s/ferries/history");
    expect(all.find((one) => one.name === "Find")?.to).toBe("/find?shelf=ferries");
    expect(pagesOf(undefined).every((one) => !one.to?.startsWith("/s/"))).toBe(true);
  });

  test("is narrowed by all words, in any order and either case", () => {
    expect(names("TAGS branches")).toEqual(["Branches and tags"]);
    expect(names("your")).toEqual(["Your account", "Your tokens"]);
    expect(names("nothing like it")).toEqual([]);
    expect(names("  ")).toHaveLength(all.length);
  });

  test("has first what begins with the word, and each group once", () => {
    expect(names("p")[0]).toBe("Pending");
    const groups = matching(all, "s").map((one) => one.group);
    expect(groups.filter((group, n) => group !== groups[n - 1])).toHaveLength(new Set(groups).size);
  });
});
