/** A compared sheet, and what its cells say. */
import type { Schemas } from "../../api/client";

export type SheetCell = Schemas["GridCell"];
export type SheetRow = Schemas["GridRow"];
export type SheetGrid = Schemas["SheetGrid"];
export type ComparedSheet = Schemas["TableAnswer"];

export function shown(value: SheetCell["value"] | undefined): string {
  if (value === null || value === undefined) return "";
  return typeof value === "boolean" ? String(value) : String(value);
}
