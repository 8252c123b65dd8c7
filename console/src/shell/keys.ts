/** Keys that work on every page, unless something is being typed. */

const NOT_TEXT = ["checkbox", "radio", "button", "range", "file"];

/** Whether a key goes into what has the focus: into text, or into a list where letters and digits choose. */
export function isTyping(event: KeyboardEvent): boolean {
  const at = event.target as HTMLElement;
  if (at.isContentEditable || at.tagName === "TEXTAREA") return true;
  if (at.tagName === "INPUT") return !NOT_TEXT.includes((at as HTMLInputElement).type);
  return at.tagName === "SELECT" && /^[\p{L}\p{N} ]$/u.test(event.key);
}

export function isPlain(event: KeyboardEvent): boolean {
  return !(event.ctrlKey || event.metaKey || event.altKey);
}

/** What the keys do, for the list that shows them. */
export const KEYS: [string, string][] = [
  ["/", "find words on the shelf, or on all of them"],
  [";", "go to any page, act or artifact by typing"],
  ["?", "what this page is for, and what its words mean"],
  ["↑ ↓", "rows of a list, parts of an outline, findings"],
  ["← →", "spines of the strip, steps of a graph"],
  ["Enter", "open or choose"],
  ["Esc", "close, or leave as it was"],
  ["1 2 3 4", "settle: target, source, both, edited"],
];
