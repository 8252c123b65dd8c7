/** A compared sheet as the service gives it. */
export interface SheetCell {
  value: string | number | boolean | null;
  formula?: string;
  was?: string | number | boolean | null;
  was_formula?: string;
  state?: "changed" | "formula" | "recalculated" | "respelt";
}
export interface SheetRow {
  before: number | null;
  after: number | null;
  state: "equal" | "changed" | "added" | "removed" | "moved";
  cells: (SheetCell | null)[];
}
export interface SheetGrid {
  columns: { name: string; before: string | null; after: string | null; state: "equal" | "added" | "removed" }[];
  rows: (SheetRow | { skipped: number })[];
  header: number | null;
  truncated: boolean;
}
export interface ComparedSheet {
  rows: Record<"added" | "removed" | "changed" | "before" | "after", number>;
  recalculated: number;
  grid: SheetGrid | null;
}

export function shown(value: SheetCell["value"] | undefined): string {
  if (value === null || value === undefined) return "";
  return typeof value === "boolean" ? String(value) : String(value);
}
