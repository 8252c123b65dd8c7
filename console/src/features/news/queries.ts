/** What others did since one last looked, and what one follows. */
import { infiniteQueryOptions, queryOptions } from "@tanstack/react-query";
import { get, type Schemas, send } from "../../api/client";

export type News = Schemas["News"];
export type NewsItem = Schemas["NewsItem"];

const ASK_AGAIN_MS = 20_000;

export const newsEverywhere = () =>
  queryOptions({ queryKey: ["news"], queryFn: () => get<News[]>("news", { limit: 5 }), refetchInterval: ASK_AGAIN_MS });

export const news = (key: string, followed: boolean, all: boolean) =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "news", followed, all],
    queryFn: ({ pageParam }) =>
      get<News>(`shelves/${key}/news`, { followed: followed ? "yes" : "", all: all ? "yes" : "", before: pageParam || undefined }),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
    refetchInterval: ASK_AGAIN_MS,
  });

export const followed = (key: string) =>
  queryOptions({ queryKey: ["shelf", key, "followed"], queryFn: () => get<Schemas["FollowedThing"][]>(`shelves/${key}/followed`) });

export function look(key: string, entry: number): Promise<News> {
  return send<News>("POST", `shelves/${key}/news`, { entry });
}
