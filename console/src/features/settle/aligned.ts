/** Which lines of two texts are the same line; pure. */

/** Equal lines by common ends and by lines that occur once on both sides (a longest increasing run of them). */
export function aligned(a: string[], b: string[]): [number, number][] {
  const result: [number, number][] = [];
  const walk = (a0: number, a1: number, b0: number, b1: number): void => {
    while (a0 < a1 && b0 < b1 && a[a0] === b[b0]) result.push([a0++, b0++]);
    const tail: [number, number][] = [];
    while (a0 < a1 && b0 < b1 && a[a1 - 1] === b[b1 - 1]) tail.push([--a1, --b1]);
    const run = anchors(a, b, a0, a1, b0, b1);
    if (run.length) {
      let x = a0;
      let y = b0;
      for (const [p, q] of run) {
        walk(x, p, y, q);
        result.push([p, q]);
        x = p + 1;
        y = q + 1;
      }
      walk(x, a1, y, b1);
    }
    result.push(...tail.reverse());
  };
  walk(0, a.length, 0, b.length);
  return result.sort((x, y) => x[0] - y[0]);
}

function anchors(a: string[], b: string[], a0: number, a1: number, b0: number, b1: number): [number, number][] {
  const once = (list: string[], from: number, until: number) => {
    const places = new Map<string, number>();
    for (let i = from; i < until; i++) {
      const line = list[i] ?? "";
      places.set(line, places.has(line) ? -1 : i);
    }
    return places;
  };
  const inB = once(b, b0, b1);
  const pairs = [...once(a, a0, a1)]
    .filter(([line, i]) => i >= 0 && (inB.get(line) ?? -1) >= 0)
    .map(([line, i]) => [i, inB.get(line) ?? 0] as [number, number]);
  pairs.sort((x, y) => x[0] - y[0]);
  const tails: number[] = [];
  const back: number[] = [];
  pairs.forEach(([, j], k) => {
    let low = 0;
    let high = tails.length;
    while (low < high) {
      const mid = (low + high) >> 1;
      if ((pairs[tails[mid] ?? 0]?.[1] ?? 0) < j) low = mid + 1;
      else high = mid;
    }
    back[k] = low > 0 ? (tails[low - 1] ?? -1) : -1;
    tails[low] = k;
  });
  const run: [number, number][] = [];
  for (let k = tails.at(-1) ?? -1; k >= 0; k = back[k] ?? -1) {
    const pair = pairs[k];
    if (pair) run.push(pair);
  }
  return run.reverse();
}
