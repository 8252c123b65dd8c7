/** What the page of Git asks for. */
import { infiniteQueryOptions } from "@tanstack/react-query";
import { get, type Schemas } from "../../api/client";

export const gitCommits = (key: string) =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "git"],
    queryFn: ({ pageParam }) => get<Schemas["GitPage"]>(`shelves/${key}/git`, { cursor: pageParam || undefined }),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
  });
