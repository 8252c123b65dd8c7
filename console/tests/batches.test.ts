import { expect, test } from "vitest";
import { batchesOf, MOST_BYTES, MOST_FILES } from "../src/features/shelf/batches";
import { numbers } from "./random";

test("files go in calls that are neither many nor large, each once and in order", () => {
  const random = numbers(5);
  for (let round = 0; round < 30; round++) {
    const files = Array.from({ length: 1 + Math.floor(random() * 900) }, (_, n) => ({
      n,
      size: Math.floor(random() ** 6 * 2 * MOST_BYTES),
    }));
    const batches = batchesOf(files);
    expect(batches.flat()).toEqual(files);
    for (const batch of batches) {
      expect(batch.length).toBeLessThanOrEqual(MOST_FILES);
      if (batch.length > 1) expect(batch.reduce((sum, one) => sum + one.size, 0)).toBeLessThanOrEqual(MOST_BYTES);
    }
  }
  expect(batchesOf([])).toEqual([]);
});
