import { expect, test } from "vitest";
import { isLate } from "../src/features/people/late";

test("a backup is late an hour after the next was due, and never without a schedule", () => {
  const now = new Date("2026-11-29T12:00:00Z");
  expect(isLate("2026-11-28T11:30:00Z", 24, now)).toBe(false);
  expect(isLate("2026-11-28T10:59:00Z", 24, now)).toBe(true);
  expect(isLate("2026-01-01T00:00:00Z", 0, now)).toBe(false);
});
