import { expect, test } from "vitest";
import { shareTaken } from "../src/features/people/share";

test("the share of a bar is seen however little or much is taken", () => {
  expect(shareTaken(1, 4)).toBe(25);
  expect(shareTaken(1, 1_000_000)).toBe(1);
  expect(shareTaken(9, 4)).toBe(100);
  expect(shareTaken(0, 0)).toBe(100);
});
