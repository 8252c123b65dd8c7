import { infiniteQueryOptions } from "@tanstack/react-query";
import { answer, api } from "../../api/client";
import type { components } from "../../api/schema";

type Schemas = components["schemas"];
export type Found = Schemas["FindAnswer"];
export type FoundArtifact = Schemas["FoundArtifact"];
export type FoundPlace = Schemas["FoundPlace"];

/** Filters, each a parameter of the page's address under the same name. */
export const FILTERS = ["shelf", "kind", "by", "since", "label", "task", "effect", "history", "order"] as const;
export type Filters = Partial<Record<(typeof FILTERS)[number], string>>;

function asked(words: string, { shelf, kind, history, ...rest }: Filters, cursor: string) {
  return { words, ...rest, shelf: shelf ? [shelf] : [], kind: kind ? [kind] : [], history: history === "true" || undefined, cursor };
}

/** What holds the words, a page at a time; while something is unread it is asked again. */
export const found = (words: string, filters: Filters) =>
  infiniteQueryOptions({
    queryKey: ["find", words, filters],
    queryFn: ({ pageParam }) => answer(api.GET("/find", { params: { query: asked(words, filters, pageParam) } })),
    initialPageParam: "",
    getNextPageParam: (last: Found) => last.next,
    refetchInterval: (query) => ((query.state.data?.pages[0]?.unread ?? 0) > 0 ? 3000 : false),
    placeholderData: (before) => before,
  });
