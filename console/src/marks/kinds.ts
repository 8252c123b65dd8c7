/** What a kind means for how an artifact is shown. */
const OF_BYTES = ["picture", "spreadsheet", "document", "archive", "database"];

/** A running database's table or records, which are text, not a database's file. */
export function isCaptured(kind: string, path: string): boolean {
  return kind === "database" && /\.(json|jsonl)$/i.test(path);
}

/** Whether its bytes are no text to look at. */
export function isOfBytes(kind: string, path: string): boolean {
  return OF_BYTES.includes(kind) && !isCaptured(kind, path);
}
