import { expect, test } from "vitest";
import { viewWords } from "../src/features/views/words";

test("a view is told by its page and what it is narrowed to", () => {
  expect(viewWords("")).toBe("Artifacts");
  expect(viewWords("/history?by=tobias&kind=workflow")).toBe("History, by tobias, kind workflow");
  expect(viewWords("/artifact?path=a%20b.csv&q=pier")).toBe("artifact, path a b.csv, q pier");
  expect(viewWords("/commit/4f1c09aa")).toBe("commit 4f1c09aa");
});
