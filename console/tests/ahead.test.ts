import { expect, test } from "vitest";
import { firstNeeds } from "../src/api/ahead";

test("what a page begins with is asked for ahead, and nothing for other pages", () => {
  expect(firstNeeds("/", "")).toEqual(["/api/v1/session"]);
  expect(firstNeeds("/s/ferries/log", "")).toEqual(["/api/v1/session", "/api/v1/shelves/ferries"]);
  expect(firstNeeds("/s/ferries", "").slice(2)).toEqual([
    "/api/v1/shelves/ferries/summary?ref=main",
    "/api/v1/shelves/ferries/artifacts?sort=-when&ref=main&start=0&limit=200",
  ]);
});

test("a list that is narrowed, and a comparison without its first side, are left to the page", () => {
  expect(firstNeeds("/s/ferries", "?kind=dataset")).not.toContainEqual(expect.stringContaining("/artifacts"));
  expect(firstNeeds("/s/ferries/compare", "").length).toBe(2);
  expect(firstNeeds("/s/ferries/compare", "?from=tag%3Aone&path=a.csv").length).toBe(2);
});

test("an artifact is asked for as its page does", () => {
  expect(firstNeeds("/s/ferries/artifact", "?path=data%2Ffares.csv&version=3").slice(3)).toEqual([
    "/api/v1/shelves/ferries/artifact?path=data%2Ffares.csv&ref=main&version=3",
  ]);
});
