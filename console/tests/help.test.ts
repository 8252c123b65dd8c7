import { expect, test } from "vitest";
import { helpFor } from "../src/shell/help";

test("each page of a shelf has help of its own, the others have that of all", () => {
  const pages = ["", "/artifact", "/compare", "/history", "/branches", "/proposals/3", "/settle/ab", "/experiments", "/environments"];
  const titles = [...pages, "/pending", "/git", "/people", "/log", "/news"].map((page) => helpFor(`/s/skerry-line${page}`).title);
  expect(new Set(titles).size).toBe(titles.length);
  expect(helpFor("/").title).toBe("Every Shelf");
  expect(helpFor("/find").title).toBe("Every Shelf");
  expect(helpFor("/s/skerry-line/commit/ab12").title).toBe(helpFor("/s/skerry-line/history").title);
  expect(helpFor("/s/skerry-line/a page that is not there").title).toBe("Every Shelf");
});
