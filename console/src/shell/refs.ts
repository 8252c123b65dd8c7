/** The refs of a shelf that can be chosen, narrowed by what was typed. */

export interface RefRow {
  ref: string;
  group: string;
  note: string;
}

/** A ref that need not be in the list: one commit, or a moment. Empty when the words are neither. */
export function typedRef(typed: string): string {
  if (/^(commit:[0-9a-f]{8,}|at:.+)$/.test(typed)) return typed;
  return /^\d{4}-\d\d-\d\d/.test(typed) ? `at:${typed}` : "";
}

/** The rows with all of the words in their names, after the ref the words themselves are. */
export function narrowed(rows: RefRow[], typed: string): RefRow[] {
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
  const own = typedRef(typed.trim());
  const found = rows.filter((row) => words.every((word) => row.ref.toLowerCase().includes(word)));
  return own ? [{ ref: own, group: "As typed", note: "" }, ...found] : found;
}

/** Nothing can be changed at a tag, a commit, a moment, an environment, a version or a draft of another branch. */
export function isReadOnly(ref: string): boolean {
  return /^(tag|commit|at|env|version|draft):/.test(ref);
}
