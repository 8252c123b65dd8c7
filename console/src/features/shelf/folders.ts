/** Folders as a tree, and the moments a list is narrowed to; pure. */

export interface Folder {
  path: string;
  name: string;
  /** Artifacts in it and below it. */
  count: number;
  inside: Folder[];
}

/** A tree of the folders that hold artifacts, each with the sum of what is below it. */
export function treeOf(folders: { folder: string; count: number }[]): Folder[] {
  const top: Folder[] = [];
  const known = new Map<string, Folder>();
  const at = (path: string): Folder => {
    const found = known.get(path);
    if (found) return found;
    const cut = path.lastIndexOf("/");
    const made = { path, name: path.slice(cut + 1), count: 0, inside: [] };
    known.set(path, made);
    (cut < 0 ? top : at(path.slice(0, cut)).inside).push(made);
    return made;
  };
  for (const { folder, count } of folders) {
    if (!folder) continue;
    for (let path = folder; path; path = path.slice(0, Math.max(0, path.lastIndexOf("/")))) at(path).count += count;
  }
  const sort = (list: Folder[]) => {
    list.sort((a, b) => a.name.localeCompare(b.name));
    for (const one of list) sort(one.inside);
  };
  sort(top);
  return top;
}

/** A folder and all it lies in, outermost first. */
export function above(path: string): string[] {
  const parts = path.split("/").filter(Boolean);
  return parts.map((_, n) => parts.slice(0, n + 1).join("/"));
}

export const WHEN: Record<string, [string, number]> = {
  today: ["today", 0],
  week: ["in 7 days", 7],
  month: ["in 30 days", 30],
  quarter: ["in 90 days", 90],
};

/** The day from which a list begins, as the service takes it: of the reader's own calendar; "" for any time. */
export function sinceDay(chosen: string, now: Date): string {
  const days = WHEN[chosen]?.[1];
  if (days === undefined) return /^\d{4}-\d{2}-\d{2}$/.test(chosen) ? chosen : "";
  return new Date(now.getFullYear(), now.getMonth(), now.getDate() - days).toISOString();
}

/** The path of an artifact as it is shown: what lies between the folder that is looked at and its name, and the name. */
export function shownPath(path: string, folder: string): [string, string] {
  const inside = folder && path.startsWith(`${folder}/`) ? path.slice(folder.length + 1) : path;
  const cut = inside.lastIndexOf("/") + 1;
  return [inside.slice(0, cut), inside.slice(cut)];
}
