/** Uses as a drawing: who stands on which level, and what leads to whom. */
import type { Schemas } from "../../api/client";

export type Uses = Schemas["UsesAnswer"];
export type Using = Schemas["UsingArtifact"];
export type UsedOne = Schemas["UsedArtifact"];

/** One box: an artifact on its level. */
export interface Box {
  id: string;
  level: number;
  row: number;
  shelf: string;
  artifact: string;
  kind: string;
  place: string;
  label: string;
  verb: string;
  exact: boolean;
  effect: string;
  part: string;
  runs: Schemas["RunsIn"][];
  through: string[];
}

export interface Line {
  from: string;
  to: string;
  effect: string;
  exact: boolean;
}

export interface Picture {
  boxes: Box[];
  lines: Line[];
  levels: number[];
  /** how many are not drawn, by level */
  left: Map<number, number>;
  rows: number;
}

export const MOST_IN_LEVEL = 12;

/** How an answer names an artifact: of another shelf with its key before. */
export function nameOf(one: { shelf: string; artifact: string }, shelf: string): string {
  return one.shelf === shelf ? one.artifact : `${one.shelf}: ${one.artifact}`;
}

/** The users (or sources) laid out level by level, each near what leads to it. */
export function picture(told: Uses, side: "by" | "of"): Picture {
  const given: (Using | UsedOne)[] = side === "by" ? told.used_by : told.uses;
  const levels = [...new Set(given.map((one) => one.level))].sort((a, b) => a - b);
  const rows = new Map<string, number>([[told.artifact, 0]]);
  const boxes: Box[] = [];
  const left = new Map<number, number>();
  for (const level of levels) {
    const own = given.filter((one) => one.level === level);
    const drawn = own.slice(0, MOST_IN_LEVEL);
    if (own.length > drawn.length) left.set(level, own.length - drawn.length);
    const wanted = drawn.map((one, n) => ({ one, near: mean(one.through.map((name) => rows.get(name))) ?? n, n }));
    wanted.sort((a, b) => a.near - b.near || a.n - b.n);
    wanted.forEach(({ one }, row) => {
      const id = nameOf(one, told.shelf);
      rows.set(id, row);
      boxes.push({
        id,
        level,
        row,
        shelf: one.shelf,
        artifact: one.artifact,
        kind: one.kind,
        place: one.place,
        label: one.label,
        verb: one.verb,
        exact: one.exact,
        effect: "effect" in one ? one.effect : "",
        part: ("part" in one && one.part) || "",
        runs: ("runs_in" in one && one.runs_in) || [],
        through: one.through,
      });
    });
  }
  const known = new Set([told.artifact, ...boxes.map((box) => box.id)]);
  const lines = boxes.flatMap((box) =>
    box.through.filter((name) => known.has(name)).map((from) => ({ from, to: box.id, effect: box.effect, exact: box.exact })),
  );
  return {
    boxes,
    lines,
    levels,
    left,
    rows: Math.max(1, ...levels.map((level) => boxes.filter((box) => box.level === level).length)),
  };
}

function mean(rows: (number | undefined)[]): number | null {
  const known = rows.filter((row): row is number => row !== undefined);
  return known.length ? known.reduce((sum, row) => sum + row, 0) / known.length : null;
}

/** The box the arrow keys lead to: up and down within a level, left and right to the level beside it. */
export function beside(boxes: Box[], now: Box | null, key: string): Box | null {
  const first = boxes[0] ?? null;
  if (!now) return first;
  if (key === "ArrowUp" || key === "ArrowDown") {
    const row = now.row + (key === "ArrowDown" ? 1 : -1);
    return boxes.find((box) => box.level === now.level && box.row === row) ?? now;
  }
  const levels = [...new Set(boxes.map((box) => box.level))].sort((a, b) => a - b);
  const next = levels[levels.indexOf(now.level) + (key === "ArrowRight" ? 1 : -1)];
  const there = boxes.filter((box) => box.level === next);
  return there.sort((a, b) => Math.abs(a.row - now.row) - Math.abs(b.row - now.row))[0] ?? now;
}

/** The page that shows an artifact, at the state its uses were asked for. */
export function addressOf(one: { shelf: string; artifact: string }, shelf: string, at: string, more: Record<string, string> = {}): string {
  return `/s/${one.shelf}/artifact?${new URLSearchParams({ path: one.artifact, ...(one.shelf === shelf && at !== "main" ? { ref: at } : {}), ...more })}`;
}
