/** Lanes for the drawing of branches; pure. The main branch lies lowest, as the ground; each other line leaves it upwards. */
import type { Schemas } from "../../api/client";

export type LineCommit = Schemas["LineCommit"];

export interface Placed {
  commit: LineCommit;
  /** Position from the left, oldest first. */
  x: number;
  lane: number;
}

export interface Lane {
  /** Name of the branch, or what is left of one that was dropped. */
  name: string;
  lane: number;
  from: number;
  to: number;
  gone: boolean;
}

export interface Drawn {
  placed: Map<string, Placed>;
  lanes: Lane[];
  height: number;
}

/** Letters of a branch's name that stand beside its line within the room of one commit. */
const LETTERS_A_STEP = 3.4;

export function arrange(commits: LineCommit[], main: string): Drawn {
  const order = [...commits].reverse();
  const x = new Map(order.map((c, i) => [c.commit, i]));
  const byId = new Map(commits.map((c) => [c.commit, c]));
  const line = new Map<string, number>();
  const own: { name: string; members: string[]; gone: boolean }[] = [];
  const take = (start: string | undefined, name: string, gone: boolean) => {
    const members: string[] = [];
    let at = start;
    while (at && byId.has(at) && !line.has(at)) {
      line.set(at, own.length);
      members.push(at);
      at = byId.get(at)?.parents[0];
    }
    if (members.length) own.push({ name, members, gone });
  };
  const heads = commits.flatMap((c) => c.branches.map((name) => ({ name, commit: c.commit })));
  const ground = heads.find((h) => h.name === main);
  if (ground) take(ground.commit, main, false);
  else own.push({ name: main, members: [], gone: false });
  for (const head of heads) if (head.name !== main) take(head.commit, head.name, false);
  // What was merged and dropped: lines that nothing names any more, found from the commits that brought them in.
  for (const c of commits) for (const parent of c.parents.slice(1)) take(parent, byId.get(parent)?.author ?? "", true);
  for (const c of commits) take(c.commit, c.author, true);

  const lanes: Lane[] = [];
  const busy: { from: number; to: number }[][] = [];
  const placed = new Map<string, Placed>();
  own.forEach((one, index) => {
    const places = one.members.map((m) => x.get(m) ?? 0);
    const last = one.members.at(-1);
    const root = last ? byId.get(last)?.parents[0] : undefined;
    const from = Math.min(...places, root && x.has(root) ? (x.get(root) ?? 0) : Number.POSITIVE_INFINITY);
    const joined = commits.filter((c) => c.parents.slice(1).some((p) => one.members.includes(p))).map((c) => x.get(c.commit) ?? 0);
    const to = Math.max(...places, ...joined, 0);
    let lane = 0;
    if (index > 0) {
      const named = one.gone ? 0 : Math.ceil(one.name.length / LETTERS_A_STEP);
      lane = 1;
      while ((busy[lane] ?? []).some((b) => from <= b.to + 1 && b.from <= to + named + 1)) lane += 1;
    }
    busy[lane] = [...(busy[lane] ?? []), { from, to: one.gone ? to : to + Math.ceil(one.name.length / LETTERS_A_STEP) }];
    lanes.push({ name: one.name, lane, from: Number.isFinite(from) ? from : 0, to, gone: one.gone });
    for (const m of one.members) {
      const commit = byId.get(m);
      if (commit) placed.set(m, { commit, x: x.get(m) ?? 0, lane });
    }
  });
  return { placed, lanes, height: Math.max(1, busy.length) };
}

export interface TagName {
  commit: string;
  tag: string;
  /** Where the mark leaves the line and where the name begins, from the left in pixels. */
  mark: number;
  start: number;
}

/** The first of many names, and after them how many are left out. */
export function firstOf(names: string[], most: number): string[] {
  return names.length > most ? [...names.slice(0, most), `and ${names.length - most} more`] : names;
}

const TAGS_OF_ONE = 4;

/** The names of tags below their line: each begins at its commit, or behind the name before it where that is still in the way. */
export function tagNames(placed: Iterable<Placed>, across: (x: number) => number, letter: number): TagName[] {
  const free = new Map<number, number>();
  return [...placed]
    .sort((a, b) => a.x - b.x)
    .flatMap((p) =>
      firstOf(p.commit.tags, TAGS_OF_ONE).map((tag) => {
        const mark = across(p.x);
        const start = Math.max(mark + 3, free.get(p.lane) ?? 0);
        free.set(p.lane, start + (tag.length + 1) * letter);
        return { commit: p.commit.commit, tag, mark, start };
      }),
    );
}
