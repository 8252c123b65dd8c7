/** Where typing leads: the pages of the shelf that is open, one's own pages, and what can be done here. */

export interface Destination {
  group: string;
  name: string;
  /** An address of the console; without one the destination is an act of the page. */
  to?: string;
}

const OF_A_SHELF: [string, string][] = [
  ["Artifacts", ""],
  ["Pending", "/pending"],
  ["History", "/history"],
  ["Compare two states", "/compare"],
  ["Branches and tags", "/branches"],
  ["Proposals", "/proposals"],
  ["Tasks", "/tasks"],
  ["News", "/news"],
  ["First steps", "/first-steps"],
  ["Experiments", "/experiments"],
  ["Environments", "/environments"],
  ["Git", "/git"],
  ["Data in place", "/in-place"],
  ["Log", "/log"],
  ["Webhooks", "/webhooks"],
  ["People", "/people"],
];

/** The name of a page of a shelf by its path below the shelf; of one without a name, the words of the path. */
export function pageNamed(path: string): string {
  return OF_A_SHELF.find(([, end]) => end === path)?.[0] ?? path.split("/").filter(Boolean).map(decodeURIComponent).join(" ");
}

export function pagesOf(shelf: string | undefined): Destination[] {
  const own = shelf ? OF_A_SHELF.map(([name, end]) => ({ group: "Pages of this shelf", name, to: `/s/${shelf}${end}` })) : [];
  return [
    ...own,
    { group: "Other pages", name: "All shelves", to: "/" },
    { group: "Other pages", name: "Find", to: shelf ? `/find?${new URLSearchParams({ shelf })}` : "/find" },
    { group: "Other pages", name: "Your account", to: "/account" },
    { group: "Other pages", name: "Your tokens", to: "/tokens" },
  ];
}

/** Those whose names hold every word; names that begin with the first word come first, else the order stays. */
export function matching(all: Destination[], typed: string): Destination[] {
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
  const first = words[0];
  if (first === undefined) return all;
  const found = all.filter((one) => words.every((word) => one.name.toLowerCase().includes(word)));
  const begins = (one: Destination) => one.name.toLowerCase().startsWith(first);
  // Within a group only: a list whose groups came mixed would name the same group twice.
  const groups = [...new Set(found.map((one) => one.group))];
  return groups.flatMap((group) => {
    const own = found.filter((one) => one.group === group);
    return [...own.filter(begins), ...own.filter((one) => !begins(one))];
  });
}
