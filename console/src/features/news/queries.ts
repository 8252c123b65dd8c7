/** What others did since one last looked, and what one follows. */
import { infiniteQueryOptions, queryOptions } from "@tanstack/react-query";
import { answer, api, type Schemas } from "../../api/client";

export type News = Schemas["News"];
export type NewsItem = Schemas["NewsItem"];

const ASK_AGAIN_MS = 20_000;

export const newsEverywhere = () =>
  queryOptions({
    queryKey: ["news"],
    queryFn: () => answer(api.GET("/news", { params: { query: { limit: 5 } } })),
    refetchInterval: ASK_AGAIN_MS,
  });

export const news = (key: string, followed: boolean, all: boolean) =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "news", followed, all],
    queryFn: ({ pageParam }) =>
      answer(
        api.GET("/shelves/{shelf}/news", {
          params: {
            path: { shelf: key },
            query: { followed: followed ? "yes" : undefined, all: all ? "yes" : undefined, before: pageParam || undefined },
          },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
    refetchInterval: ASK_AGAIN_MS,
  });

export const followed = (key: string) =>
  queryOptions({
    queryKey: ["shelf", key, "followed"],
    queryFn: () => answer(api.GET("/shelves/{shelf}/followed", { params: { path: { shelf: key } } })),
  });

export function look(key: string, entry: number): Promise<News> {
  return answer(api.POST("/shelves/{shelf}/news", { params: { path: { shelf: key } }, body: { entry } }));
}

export function follow(key: string, what: Schemas["FollowInRequest"], wanted: boolean): Promise<Schemas["FollowedThing"][]> {
  const asked = { params: { path: { shelf: key } }, body: what };
  return answer(wanted ? api.POST("/shelves/{shelf}/followed", asked) : api.POST("/shelves/{shelf}/followed/stop", asked));
}
