import { expect, test } from "vitest";
import { keysFrom, USUAL_KEYS, wrongKey } from "../src/shell/keys";

test("keys that were kept are used, and the usual ones where nothing fit is kept", () => {
  expect(keysFrom(null)).toEqual(USUAL_KEYS);
  expect(keysFrom('{"find": "ö", "go": "", "help": "long"}')).toEqual({ find: "ö", go: "", help: "?" });
  expect(keysFrom("not JSON")).toEqual(USUAL_KEYS);
  expect(keysFrom("[1]")).toEqual(USUAL_KEYS);
  expect(keysFrom("null")).toEqual(USUAL_KEYS);
});

test("a key has one use", () => {
  expect(wrongKey(USUAL_KEYS, "find", "f")).toBe("");
  expect(wrongKey(USUAL_KEYS, "find", "/")).toBe("");
  expect(wrongKey(USUAL_KEYS, "find", "")).toBe("");
  expect(wrongKey(USUAL_KEYS, "find", ";")).toBe("This key is used to go to any page, act or artifact by typing.");
  expect(wrongKey(USUAL_KEYS, "find", "n")).toBe("Some pages use this key.");
  expect(wrongKey(USUAL_KEYS, "find", "1")).toBe("Digits and spaces have other uses.");
});
