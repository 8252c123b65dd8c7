/** What waits to be committed: the person's drafts, kept on the server edit by edit. */

import { queryOptions, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo } from "react";
import { answer, api, type Schemas } from "../../api/client";

export type Draft = Schemas["DraftOut"];
export type SavePoint = Schemas["PointOut"];

export interface Pending extends SavePoint {
  branch: string;
}

/** An edit to keep; ``base`` is the commit it was made on. */
export interface Edit {
  path: string;
  content: string | null;
  branch: string;
  base: string | null;
}

/** Several edits of one branch, kept all or none. */
export interface Edits {
  branch: string;
  base: string | null;
  entries: { path: string; content: string | null }[];
}

/** Labels as typed, KEY=VALUE each, as the service takes them. */
export function labelled(typed: string[]): Record<string, string> {
  return Object.fromEntries(typed.map((one) => [one.slice(0, one.indexOf("=")).trim(), one.slice(one.indexOf("=") + 1).trim()]));
}

/** What is wrong with labels as typed; undefined if they can be sent. */
export function wrongLabel(typed: string[]): string | undefined {
  const wrong = typed.find((one) => one.indexOf("=") < 1);
  if (wrong) return `“${wrong}” has no value: write it as name=value.`;
  const names = typed.map((one) => one.slice(0, one.indexOf("=")).trim());
  const twice = names.find((name, n) => names.indexOf(name) < n);
  return twice && `“${twice}” is there twice: a label has one value.`;
}

const ASK_AGAIN_MS = 15_000;

export const drafts = (key: string) =>
  queryOptions({
    queryKey: ["shelf", key, "drafts"],
    queryFn: () => answer(api.GET("/shelves/{shelf}/drafts", { params: { path: { shelf: key } } })),
    refetchInterval: ASK_AGAIN_MS,
  });

export const savePoints = (key: string, branch: string) =>
  queryOptions({
    queryKey: ["shelf", key, "drafts", branch, "points"],
    queryFn: () => answer(api.GET("/shelves/{shelf}/drafts/points", { params: { path: { shelf: key }, query: { branch } } })),
  });

function pendingOf(all: Draft[]): Pending[] {
  return all.flatMap((d) => d.entries.map((e) => ({ ...e, branch: d.branch })));
}

export function usePending(shelf: string) {
  const queries = useQueryClient();
  const found = useQuery(drafts(shelf));
  const all = found.data ?? [];
  const pending = useMemo(() => pendingOf(found.data ?? []), [found.data]);
  /** What is pending, once it is known: what is done upon it must not take "not read yet" for "nothing". */
  const known = async () => pendingOf(await queries.ensureQueryData(drafts(shelf)));
  const again = () => queries.invalidateQueries({ queryKey: drafts(shelf).queryKey });
  const keepAll = useMutation({
    mutationFn: async ({ branch, base, entries }: Edits) => {
      // Made on what this page shows: saved elsewhere meanwhile, the service asks.
      const points = new Map((await known()).filter((p) => p.branch === branch).map((p) => [p.path, p.point]));
      const made = entries.map((one) => ({ ...one, onto: points.get(one.path) ?? 0 }));
      return answer(api.POST("/shelves/{shelf}/drafts", { params: { path: { shelf } }, body: { branch, base, entries: made } }));
    },
    onSettled: again,
  });
  const keep = ({ branch, base, path, content }: Edit) => keepAll.mutateAsync({ branch, base, entries: [{ path, content }] });
  const discard = useMutation({
    mutationFn: ({ branch, paths }: { branch: string; paths: string[] }) =>
      answer(api.POST("/shelves/{shelf}/drafts/discard", { params: { path: { shelf } }, body: { branch, paths } })),
    onSettled: again,
  });
  const restore = useMutation({
    mutationFn: (wanted: { branch: string; point: number }) =>
      answer(api.POST("/shelves/{shelf}/drafts/restore", { params: { path: { shelf } }, body: wanted })),
    onSettled: again,
  });
  const saved = all
    .map((d) => d.saved)
    .filter((s): s is string => s !== null)
    .sort()
    .pop();
  return {
    drafts: all,
    pending,
    known,
    isKnown: !found.isPending,
    saved,
    outOfReach: found.isError,
    problem: keepAll.error ?? discard.error,
    keep,
    keepAll: keepAll.mutateAsync,
    discard: discard.mutateAsync,
    /** Bring a save point back, also one that was discarded. */
    restore: restore.mutateAsync,
    again,
  };
}
