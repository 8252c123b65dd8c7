/** What the pages of people ask for. */
import { infiniteQueryOptions, queryOptions } from "@tanstack/react-query";
import { get, type Schemas } from "../../api/client";

export const ROLES = ["reader", "author", "keeper", "owner"] as const;

export const members = (key: string) =>
  queryOptions({
    queryKey: ["shelf", key, "members"],
    queryFn: () => get<Schemas["MemberOut"][]>(`shelves/${key}/members`),
  });

export const invitations = (key: string) =>
  queryOptions({
    queryKey: ["shelf", key, "invitations"],
    queryFn: () => get<Schemas["InvitationOut"][]>(`shelves/${key}/invitations`),
  });

export const tokens = () => queryOptions({ queryKey: ["tokens"], queryFn: () => get<Schemas["TokenOut"][]>("tokens") });

export const accounts = () => queryOptions({ queryKey: ["accounts"], queryFn: () => get<Schemas["Account"][]>("people") });

export const log = (address: string, person: string, act: string) =>
  infiniteQueryOptions({
    queryKey: ["log", address, person, act],
    queryFn: ({ pageParam }) =>
      get<Schemas["LogPage"]>(address, {
        person: person || undefined,
        act: act || undefined,
        before: pageParam ?? undefined,
      }),
    initialPageParam: null as number | null,
    getNextPageParam: (last) => last.next,
  });
