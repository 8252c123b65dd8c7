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

/** What a single key of one's own choice does on every page. */
export type KeyAct = "find" | "go" | "help";
export type OwnKeys = Record<KeyAct, string>;

export const USUAL_KEYS: OwnKeys = { find: "/", go: ";", help: "?" };

/** What the keys do, for the list that shows them; the first three can be changed. */
export const ACTS: [KeyAct, string][] = [
  ["find", "find words on the shelf, or on all of them"],
  ["go", "go to any page, act or artifact by typing"],
  ["help", "what this page is for, and what its words mean"],
];
export const KEYS: [string, string][] = [
  ["↑ ↓", "rows of a list, parts of an outline, findings"],
  ["← →", "spines of the strip, steps of a graph"],
  ["Enter", "open or choose"],
  ["Esc", "close, or leave as it was"],
  ["1 2 3 4", "settle: target, source, both, edited"],
];

/** Keys as they were kept, the usual ones where nothing fit is kept. */
export function keysFrom(kept: string | null): OwnKeys {
  const own = { ...USUAL_KEYS };
  try {
    const said: unknown = JSON.parse(kept ?? "{}");
    if (typeof said !== "object" || said === null) return own;
    for (const [act] of ACTS) {
      const key: unknown = Reflect.get(said, act);
      if (typeof key === "string" && [...key].length <= 1) own[act] = key;
    }
  } catch {
    return own;
  }
  return own;
}

/** Why a key cannot be had for an act, in words; empty if it can. No key at all turns the act's key off. */
export function wrongKey(keys: OwnKeys, act: KeyAct, key: string): string {
  if (key === "") return "";
  if (/[\s\d]/.test(key)) return "Digits and spaces have other uses.";
  if (/[np+-]/.test(key)) return "Some pages use this key.";
  const other = ACTS.find(([one]) => one !== act && keys[one] === key);
  return other ? `This key is used to ${other[1]}.` : "";
}
