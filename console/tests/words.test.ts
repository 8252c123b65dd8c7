import { describe, expect, test } from "vitest";
import { count, effectsPhrase, fileName, group, size, tone, value, when } from "../src/marks/words";

const NARROW = "\u202f";

describe("numbers", () => {
  test("are in groups of three with a narrow space between", () => {
    expect(group(0)).toBe("0");
    expect(group(999)).toBe("999");
    expect(group(48_210)).toBe(`48${NARROW}210`);
    expect(group(10_000_000)).toBe(`10${NARROW}000${NARROW}000`);
  });

  test("agree with their noun", () => {
    expect(count(1, "row")).toBe("1 row");
    expect(count(0, "row")).toBe("0 rows");
    expect(count(2, "branch", "branches")).toBe("2 branches");
  });

  test("of bytes have the unit a person would say", () => {
    expect([0, 999, 1000, 9_960, 412_000_000, 3e15].map(size)).toEqual(["0 B", "999 B", "1.0 KB", "10.0 KB", "412 MB", "3000.0 TB"]);
  });
});

describe("moments", () => {
  const now = new Date(2026, 10, 28, 14, 0);
  const at = (...parts: [number, number, number, number, number]) => new Date(...parts).toISOString();

  test("are told by how long ago they were", () => {
    expect(when(at(2026, 10, 28, 9, 5), now)).toBe("today 09:05");
    expect(when(at(2026, 10, 27, 23, 59), now)).toBe("Fri 23:59");
    expect(when(at(2026, 10, 21, 0, 1), now)).toBe("21 Nov");
    expect(when(at(2025, 2, 4, 12, 0), now)).toBe("4 Mar 2025");
    expect(when(null, now)).toBe("");
  });

  test("give a spine its tone", () => {
    const days = [0, 1, 6, 7, 30, 31].map((n) => tone(new Date(2026, 10, 28 - n, 12).toISOString(), now));
    expect(days).toEqual([3, 2, 2, 1, 1, 0]);
  });
});

describe("effects", () => {
  test("what may break users comes first", () => {
    expect(effectsPhrase({ breaks: 2, alters: 1 })).toBe("2 findings may break users, 1 changes behaviour");
    expect(effectsPhrase({ alters: 7 })).toBe("7 findings change behaviour, none break users");
    expect(effectsPhrase({})).toBe("no change of behaviour");
  });

  test("what was not read is not judged", () => {
    expect(effectsPhrase({}, false)).toBe("its effects are not judged");
    expect(effectsPhrase({ alters: 1 }, false)).toContain("the rest is not judged");
  });
});

test("a value is shown without its own id and name", () => {
  expect(value({ id: 3, name: "x", delay: 30, unit: null })).toBe("delay 30, unit none");
  expect(value(null)).toBe("none");
  expect(fileName("data/2026/fares.csv")).toBe("fares.csv");
});
