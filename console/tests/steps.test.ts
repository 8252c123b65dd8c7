import { expect, test } from "vitest";
import { stepsOf, withArticle } from "../src/features/start/steps";

test("each role has steps of its own, and none that it may not take", () => {
  const roles = ["reader", "author", "keeper", "owner"];
  const names = roles.map((role) => stepsOf(role).map((step) => step.name));
  expect(new Set(names.map(String)).size).toBe(roles.length);
  expect(names[0]).not.toContain("Commit");
  expect(names[1]).not.toContain("Promote it");
  expect(names[2]).not.toContain("Invite people");
  for (const own of names) expect(new Set(own).size).toBe(own.length);
  expect(stepsOf("something else")).toEqual(stepsOf("reader"));
});

test("a role is said with its article", () => {
  expect(["author", "keeper", "owner", "reader"].map(withArticle)).toEqual(["an author", "a keeper", "an owner", "a reader"]);
});
