/** What the pages of tasks ask for. */
import { infiniteQueryOptions } from "@tanstack/react-query";
import { answer, api } from "../../api/client";

export const tasks = (key: string) =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "tasks"],
    queryFn: ({ pageParam }) =>
      answer(api.GET("/shelves/{shelf}/tasks", { params: { path: { shelf: key }, query: { cursor: pageParam || undefined } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
  });

export const task = (key: string, name: string) =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "tasks", name],
    queryFn: ({ pageParam }) =>
      answer(
        api.GET("/shelves/{shelf}/tasks/{task}", {
          params: {
            path: { shelf: key, task: name },
            query: {
              cursor: pageParam || undefined,
            },
          },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
  });
