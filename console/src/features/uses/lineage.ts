/** A lineage as a drawing: versions and the steps between them, in columns from left to right. */
import type { Schemas } from "../../api/client";
import { fileName } from "../../marks/words";

export type Lineage = Schemas["LineageAnswer"];
export type Made = Schemas["LineageVersion"];
export type Making = Schemas["Making"];

const MOST_IN_COLUMN = 10;

interface Place {
  column: number;
  row: number;
}

/** Where each version and step stands, what leads to what, and how many of a column are not drawn. */
export function placed(told: Lineage): {
  places: Map<string, Place>;
  lines: [string, string][];
  columns: number;
  rows: number;
  left: Map<number, number>;
} {
  const held = new Map<number, string[]>();
  const put = (key: number, id: string) => held.set(key, [...(held.get(key) ?? []), id]);
  for (const version of told.versions) put(version.distance * 2, version.id);
  for (const step of told.steps) put(step.distance * 2 + 1, step.id);
  const keys = [...held.keys()].sort((a, b) => a - b);
  const places = new Map<string, Place>();
  const left = new Map<number, number>();
  const rows = Math.min(MOST_IN_COLUMN, Math.max(...[...held.values()].map((ids) => ids.length), 1));
  keys.forEach((key, column) => {
    const ids = held.get(key) ?? [];
    const drawn = ids.slice(0, MOST_IN_COLUMN);
    if (ids.length > drawn.length) left.set(column, ids.length - drawn.length);
    const offset = (rows - drawn.length) / 2;
    for (const [row, id] of drawn.entries()) places.set(id, { column, row: row + offset });
  });
  const lines = told.steps.flatMap((step): [string, string][] => [
    ...step.reads.map((id): [string, string] => [id, step.id]),
    ...step.writes.map((id): [string, string] => [step.id, id]),
  ]);
  return { places, lines, columns: keys.length, rows, left };
}

export function versionName(one: { artifact: string; version: number | null }): string {
  return one.version === null ? fileName(one.artifact) : `${fileName(one.artifact)} v${one.version}`;
}
