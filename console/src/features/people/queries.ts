/** What the pages of people ask for. */
import { infiniteQueryOptions, queryOptions } from "@tanstack/react-query";
import { answer, api } from "../../api/client";

export const ROLES = ["reader", "author", "keeper", "owner"] as const;

export const members = (key: string) =>
  queryOptions({
    queryKey: ["shelf", key, "members"],
    queryFn: () => answer(api.GET("/shelves/{shelf}/members", { params: { path: { shelf: key } } })),
  });

export const invitations = (key: string) =>
  queryOptions({
    queryKey: ["shelf", key, "invitations"],
    queryFn: () => answer(api.GET("/shelves/{shelf}/invitations", { params: { path: { shelf: key } } })),
  });

export const tokens = () => queryOptions({ queryKey: ["tokens"], queryFn: () => answer(api.GET("/tokens")) });

export const locations = () => queryOptions({ queryKey: ["locations"], queryFn: () => answer(api.GET("/locations")) });

export const accounts = () => queryOptions({ queryKey: ["accounts"], queryFn: () => answer(api.GET("/people")) });

export const log = (shelf: string, person: string, act: string) =>
  infiniteQueryOptions({
    queryKey: ["log", shelf, person, act],
    queryFn: ({ pageParam }) =>
      answer(api.GET("/shelves/{shelf}/log", { params: { path: { shelf }, query: { person, act, before: pageParam ?? undefined } } })),
    initialPageParam: null as number | null,
    getNextPageParam: (last) => last.next,
  });

/** The stores where bytes of shelves can live, the main one first. */
export const stores = () =>
  queryOptions({
    queryKey: ["stores"],
    queryFn: () => answer(api.GET("/storage/stores")),
    staleTime: 60_000,
  });

/** The store where the bytes of a shelf live, and how far they are there. */
export const shelfStore = (key: string) =>
  queryOptions({
    queryKey: ["shelf", key, "store"],
    queryFn: () => answer(api.GET("/shelves/{shelf}/store", { params: { path: { shelf: key } } })),
  });
