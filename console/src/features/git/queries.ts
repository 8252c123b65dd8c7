/** What the page of Git asks for. */
import { infiniteQueryOptions, queryOptions } from "@tanstack/react-query";
import { get, type Schemas } from "../../api/client";

export type GitLink = Schemas["GitLinkAnswer"];

const LOOK_MS = 3000;

export const gitCommits = (key: string) =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "git"],
    queryFn: ({ pageParam }) => get<Schemas["GitPage"]>(`shelves/${key}/git`, { cursor: pageParam || undefined }),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
  });

/** Links change by themselves: those that follow, and those at work. */
export const gitLinks = (key: string) =>
  queryOptions({
    queryKey: ["shelf", key, "git-links"],
    queryFn: async () => (await get<{ links: GitLink[] }>(`shelves/${key}/git/links`)).links,
    refetchInterval: (query) => (query.state.data?.some((link) => link.follows) ? LOOK_MS : false),
  });

export const gitLink = (key: string, name: string) =>
  queryOptions({
    queryKey: ["shelf", key, "git-links", name],
    queryFn: () => get<Schemas["GitLinkShown"]>(`shelves/${key}/git/links/${name}`),
  });
