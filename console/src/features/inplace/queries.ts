/** What the page of data in place asks for. */
import { infiniteQueryOptions, queryOptions } from "@tanstack/react-query";
import { answer, api, type Schemas } from "../../api/client";
import { isRunning } from "../../marks/jobs";

export type InPlace = Schemas["InPlaceOut"];

const LOOK_MS = 1500;

export const inPlaceKey = (key: string) => ["shelf", key, "in-place"];

export const inPlace = (key: string, ref: string) =>
  infiniteQueryOptions({
    queryKey: [...inPlaceKey(key), ref],
    queryFn: ({ pageParam }) =>
      answer(
        api.GET("/shelves/{shelf}/in-place", {
          params: { path: { shelf: key }, query: { ref, cursor: pageParam || undefined } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
    refetchInterval: (query) => (isRunning(query.state.data?.pages[0]?.job) ? LOOK_MS : false),
  });

export const inPlaceKeys = (key: string) =>
  queryOptions({
    queryKey: [...inPlaceKey(key), "credentials"],
    queryFn: () => answer(api.GET("/shelves/{shelf}/in-place/credentials", { params: { path: { shelf: key } } })),
  });
