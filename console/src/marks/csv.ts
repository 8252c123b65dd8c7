/** Cells of CSV files that leave for a spreadsheet: what it would take for a formula is made a text (OWASP, "CSV Injection"). */
const FORMULA = /^\s*[=+\-@\t\r\uff1d\uff0b\uff0d\uff20|%]/;
const NUMBER = /^[-+]?(\d+([.,]\d+)*|\.\d+)([eE][-+]?\d+)?%?$/;

/** A value as it may stand in a CSV file; `raw` leaves texts as they are. */
export function csvCell(value: unknown, raw = false): string {
  const text = String(value ?? "");
  const safe = raw || typeof value === "number" || !FORMULA.test(text) || NUMBER.test(text) ? text : `'${text}`;
  return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}
