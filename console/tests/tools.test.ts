import { expect, test } from "vitest";
import { toolAddress } from "../src/features/artifact/toolAddress";

test("the address for data tools: slashes of a branch are written so that they end no ref", () => {
  expect(toolAddress("shelf.example", "skerry-line", "main", "data/fares.csv")).toBe(
    "shelf://shelf.example/skerry-line@main/data/fares.csv",
  );
  expect(toolAddress("h:1", "s", "tag:spring-1", "a b.csv")).toBe("shelf://h:1/s@tag:spring-1/a b.csv");
  expect(toolAddress("h:1", "s", "ines/tide-height", "x.csv")).toBe("shelf://h:1/s@ines%2Ftide-height/x.csv");
});
