/** What the origins page shows, made from the service's answers: entries with the commit that set each. */
import type { components } from "../../api/schema";
import { tone } from "../../marks/words";

type Schemas = components["schemas"];
export type Origins = Schemas["OriginsAnswer"];
export type OriginCommit = Schemas["OriginCommit"];
export type PartOrigin = Schemas["PartOrigin"];

/** One line of the list. `of`: how its forms are asked for. */
export interface Entry {
  id: string;
  type: string;
  label: string;
  depth: number;
  commit: OriginCommit;
  cosmetic: boolean;
  of: Record<string, string>;
  count?: number;
}

export const TONES = ["earlier", "this month", "this week", "today"] as const;

const NOBODY: OriginCommit = {
  version: null,
  commit: "",
  author: "",
  recorded: "",
  summary: "",
  tasks: [],
  path: "",
  merge: false,
  others: 0,
};

/** The commit that last set each part, or a field of it. */
export function setBy(found: Origins): Map<string, OriginCommit> {
  const known = new Map<string, OriginCommit>();
  for (const part of found.parts ?? []) {
    const commit = found.commits[part.set];
    if (commit) known.set(part.path, commit);
  }
  return known;
}

/** All pages as one answer. */
export function whole(pages: Origins[]): Origins | undefined {
  const [first, ...rest] = pages;
  if (!first) return undefined;
  if (rest.length === 0) return first;
  return {
    ...first,
    parts: pages.flatMap((page) => page.parts ?? []),
    lines: pages.flatMap((page) => page.lines ?? []),
    commits: Object.assign({}, ...pages.map((page) => page.commits)),
  };
}

/** Parts with, of the chosen one, all its fields; of the others those set later than the part itself. */
export function entries(found: Origins, cosmetic: boolean, chosen: string): Entry[] {
  const commit = (uid: string | null | undefined) => (uid ? found.commits[uid] : undefined) ?? NOBODY;
  const all: Entry[] = [];
  for (const part of found.parts ?? []) {
    const looks = cosmetic && part.looks ? part.looks : null;
    all.push({
      id: part.path,
      type: part.type,
      label: part.label || part.type,
      depth: part.depth,
      commit: commit(looks ?? part.set),
      cosmetic: looks !== null,
      of: { part: part.path },
    });
    const idOf = (name: string) => `${part.path === "/" ? "" : part.path}/${name}`;
    const isOpen = part.path === chosen || part.fields.some((field) => idOf(field.name) === chosen);
    for (const field of part.fields) {
      const said = cosmetic && field.looks ? field.looks : field.set;
      const id = idOf(field.name);
      if (said === part.own && !isOpen) continue;
      all.push({
        id,
        type: "field",
        label: field.name,
        depth: part.depth + 1,
        commit: commit(said),
        cosmetic: said !== field.set,
        of: { part: id },
      });
    }
  }
  return all;
}

/** How many changes of looks the switch hides. */
export function hidden(found: Origins): number {
  const ofParts = (found.parts ?? []).reduce((n, part) => n + (part.looks ? 1 : 0) + part.fields.filter((f) => f.looks).length, 0);
  return ofParts + (found.lines ?? []).filter((run) => run.looks).length;
}

export function isShown(entry: Entry, words: string, who: string, since: string): boolean {
  if (who && entry.commit.author !== who) return false;
  if (since && tone(entry.commit.recorded) < Number(since)) return false;
  const sought = words.trim().toLowerCase();
  return (
    !sought ||
    [entry.label, entry.id, entry.commit.author, entry.commit.summary, entry.commit.commit, ...entry.commit.tasks].some((text) =>
      text.toLowerCase().includes(sought),
    )
  );
}

export function people(found: Origins): string[] {
  return [...new Set(Object.values(found.commits).map((c) => c.author))].sort();
}
