/** Conditions on the rows of a table, as the service reads them: COLUMN TEST VALUE. */

export const TESTS = ["is", "is not", "contains", "over", "under", "is empty", "is not empty"] as const;
export type Test = (typeof TESTS)[number];

export function needsValue(test: Test): boolean {
  return test !== "is empty" && test !== "is not empty";
}

export function condition(column: string, test: Test, value: string): string {
  return needsValue(test) ? `${column} ${test} ${value.trim()}` : `${column} ${test}`;
}

/** Where the page begins that has a row in it; rows are counted from 1. */
export function pageOf(row: number, total: number, size: number): number {
  const last = Math.max(0, Math.ceil(total / size) - 1);
  return Math.min(last, Math.max(0, Math.floor((row - 1) / size)));
}
