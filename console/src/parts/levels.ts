/** Which items of a long tree are drawn; pure. */

/** Items of one level that are drawn before more are asked for, and how many more each time. */
const AT_FIRST = 40;
const EACH_TIME = 200;

interface Level {
  id: string;
  inside: Level[];
}

/** What is drawn of one level after it was asked for more so many times: always as far as the way to what is chosen. */
export function inSight<T extends Level>(level: T[], asked: number, way: string[]): { shown: T[]; left: number } {
  const on = new Set(way);
  const at = way.length ? level.findIndex((one) => on.has(one.id)) : -1;
  let upTo = Math.max(AT_FIRST + asked * EACH_TIME, at + 1);
  if (level.length - upTo < AT_FIRST / 4) upTo = level.length;
  return { shown: level.slice(0, upTo), left: level.length - upTo };
}

/** The item and all it lies in, outermost first; empty if it is not in the tree. */
export function wayTo(level: Level[], id: string): string[] {
  for (const one of level) {
    if (one.id === id) return [id];
    const inside = wayTo(one.inside, id);
    if (inside.length) return [one.id, ...inside];
  }
  return [];
}

/** Ids of all that hold something, if the whole tree is small enough to be open at first; else none. */
export function smallEnough(level: Level[], most = AT_FIRST * 5): string[] {
  const holders: string[] = [];
  let seen = 0;
  const walk = (list: Level[]): void => {
    for (const one of list) {
      if (++seen > most) return;
      if (one.inside.length) holders.push(one.id);
      walk(one.inside);
    }
  };
  walk(level);
  return seen > most ? [] : holders;
}
