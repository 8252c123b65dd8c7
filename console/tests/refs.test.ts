import { describe, expect, test } from "vitest";
import { isSsh } from "../src/features/git/Access";
import { isReadOnly, narrowed, typedRef } from "../src/shell/refs";

const ROWS = ["main", "tobias/hourly", "tag:spring-1", "env:production"].map((ref) => ({ ref, group: "", note: "" }));

describe("refs", () => {
  test("are narrowed by letters of either case", () => {
    expect(narrowed(ROWS, "SPRING").map((row) => row.ref)).toEqual(["tag:spring-1"]);
    expect(narrowed(ROWS, "")).toHaveLength(4);
    expect(narrowed(ROWS, "nothing of that name")).toEqual([]);
  });

  test("that need not be in the list come first", () => {
    expect(typedRef("commit:0a1b2c3d")).toBe("commit:0a1b2c3d");
    expect(typedRef("commit:0a1b")).toBe(""); // too short to be one commit
    expect(typedRef("2026-03-14 12:00")).toBe("at:2026-03-14 12:00");
    expect(narrowed(ROWS, "2026-03-14")[0]?.ref).toBe("at:2026-03-14");
  });

  test("other than a branch can only be read", () => {
    expect(ROWS.map((row) => isReadOnly(row.ref))).toEqual([false, false, true, true]);
    expect(["commit:0a1b2c3d", "at:2026-03-14", "version:3", "draft:main"].every(isReadOnly)).toBe(true);
  });
});

test("an address reached with SSH is known by its form", () => {
  expect(["ssh://git@office.example/fares.git", "git@office.example:fares.git"].every(isSsh)).toBe(true);
  expect(["https://office.example/fares.git", "/srv/git/fares.git", "https://me@office.example:8443/x"].some(isSsh)).toBe(false);
});
