/** What the pages of tasks ask for. */
import { infiniteQueryOptions } from "@tanstack/react-query";
import { get, type Schemas } from "../../api/client";

export const tasks = (key: string) =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "tasks"],
    queryFn: ({ pageParam }) => get<Schemas["TaskPage"]>(`shelves/${key}/tasks`, { cursor: pageParam || undefined }),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
  });

export const task = (key: string, name: string) =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "tasks", name],
    queryFn: ({ pageParam }) =>
      get<Schemas["TaskAnswer"]>(`shelves/${key}/tasks/${encodeURIComponent(name)}`, {
        cursor: pageParam || undefined,
      }),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
  });
