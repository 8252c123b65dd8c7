import { describe, expect, test } from "vitest";
import { type Scheme, TOKENS } from "../src/tokens";

/** Relative luminance of a colour in sRGB, by WCAG 2.2. */
function luminance(hex: string): number {
  const [r, g, b] = [1, 3, 5].map((at) => {
    const share = Number.parseInt(hex.slice(at, at + 2), 16) / 255;
    return share <= 0.04045 ? share / 12.92 : ((share + 0.055) / 1.055) ** 2.4;
  }) as [number, number, number];
  return 0.2126 * r + 0.7152 * g + 0.0722 * b;
}

function contrast(one: string, other: string): number {
  const [high, low] = [luminance(one), luminance(other)].sort((a, b) => b - a) as [number, number];
  return (high + 0.05) / (low + 0.05);
}

describe.each(["light", "dark"] as Scheme[])("colours of the %s scheme", (scheme) => {
  const of = TOKENS[scheme];
  const grounds = ["paper", "sheet", "sunk", "select"] as const;

  test.each(["ink", "ink-2", "ink-3", "accent", "added", "removed", "changed", "moved"] as const)(
    "%s can be read on every ground",
    (name) => {
      for (const ground of grounds) expect(contrast(of[name], of[ground]), `${name} on ${ground}`).toBeGreaterThanOrEqual(4.5);
    },
  );

  test("ink, second ink and accent can be read on the board", () => {
    for (const name of ["ink", "ink-2", "accent"] as const) expect(contrast(of[name], of.board)).toBeGreaterThanOrEqual(4.5);
  });

  test("borders of controls are seen", () => {
    for (const ground of ["paper", "sheet"] as const) expect(contrast(of["line-strong"], of[ground])).toBeGreaterThanOrEqual(3);
  });

  test("marks can be read on their washes", () => {
    for (const mark of ["added", "removed", "changed", "moved", "cosmetic"] as const)
      expect(contrast(of[mark], of[`${mark}-wash`]), mark).toBeGreaterThanOrEqual(4.5);
  });

  test("labels can be read on spines of every tone", () => {
    for (const tone of [0, 1, 2, 3] as const) expect(contrast(of[`on-tone-${tone}`], of[`tone-${tone}`])).toBeGreaterThanOrEqual(4.5);
  });
});

test("both schemes have the same tokens", () => {
  expect(Object.keys(TOKENS.dark)).toEqual(Object.keys(TOKENS.light));
});
