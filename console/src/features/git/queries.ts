/** What the page of Git asks for. */
import { infiniteQueryOptions, queryOptions } from "@tanstack/react-query";
import { answer, api, type Schemas } from "../../api/client";

export type GitLink = Schemas["GitLinkAnswer"];
type Change = Required<Schemas["PatchedLinkChangeRequest"]>;
export type Way = Change["way"];
export type Parts = Change["parts"];
export const WAYS: [Way, string][] = [
  ["send", "Send"],
  ["fetch", "Fetch"],
  ["both", "Both"],
];
export const PARTS: [Parts, string][] = [
  ["none", "In their files"],
  ["beside", "Beside their files"],
  ["instead", "Instead of their files"],
];

/** The way that is called so; both where none is. */
export function wayOf(text: string): Way {
  return WAYS.find(([one]) => one === text)?.[0] ?? "both";
}

export function partsOf(text: string | undefined): Parts {
  return PARTS.find(([one]) => one === text)?.[0] ?? "none";
}

const LOOK_MS = 3000;

export const gitCommits = (key: string) =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "git"],
    queryFn: ({ pageParam }) =>
      answer(api.GET("/shelves/{shelf}/git", { params: { path: { shelf: key }, query: { cursor: pageParam || undefined } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
  });

/** Links change by themselves: those that follow, and those at work. */
export const gitLinks = (key: string) =>
  queryOptions({
    queryKey: ["shelf", key, "git-links"],
    queryFn: async () => (await answer(api.GET("/shelves/{shelf}/git/links", { params: { path: { shelf: key } } }))).links,
    refetchInterval: (query) => (query.state.data?.some((link) => link.follows) ? LOOK_MS : false),
  });

export const gitLink = (key: string, name: string) =>
  queryOptions({
    queryKey: ["shelf", key, "git-links", name],
    queryFn: () => answer(api.GET("/shelves/{shelf}/git/links/{link}", { params: { path: { shelf: key, link: name } } })),
  });

/** Send or fetch now, as a job. */
export function moved(shelf: string, link: string, way: "send" | "fetch"): Promise<Schemas["JobOut"]> {
  const params = { path: { shelf, link } };
  if (way === "send") return answer(api.POST("/shelves/{shelf}/git/links/{link}/send", { params }));
  return answer(api.POST("/shelves/{shelf}/git/links/{link}/fetch", { params }));
}
