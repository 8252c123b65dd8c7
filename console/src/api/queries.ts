/** Query options: key and fetcher together, once. */
import { infiniteQueryOptions, keepPreviousData, queryOptions } from "@tanstack/react-query";
import { answer, api, type Schemas } from "./client";
import { numberIn } from "./given";

export type Artifact = Schemas["ArtifactOut"];
export type ArtifactVersion = Schemas["ArtifactVersionOut"];
export type Branch = Schemas["BranchOut"];
export type Tag = Schemas["TagOut"];
export type Shelf = Schemas["ShelfOut"];
export type Finding = Schemas["FindingAnswer"];
export type Compared = Schemas["ComparedArtifact"];
export type StateComparison = Schemas["StateComparison"];
export type ArtifactComparison = Schemas["ArtifactComparison"];
export type Environment = Schemas["EnvironmentOut"];
export type Deployment = Schemas["DeploymentOut"];
export type Rehearsal = Schemas["RehearsalOut"];
export type Job = Schemas["JobOut"];
export type Commit = Schemas["CommitListed"];

export type Part = Schemas["PartAnswer"];
/** Of a sheet also the cells that are worked out, by row and column from 0, and the numbers of the rows. */
export type TableShown = Schemas["TablePreview"];
export type Origins = Schemas["OriginsAnswer"];
export type Forms = Schemas["FormsAnswer"];
export type Outline = Schemas["OutlineAnswer"];
export const session = () => queryOptions({ queryKey: ["session"], queryFn: () => answer(api.GET("/session")), staleTime: 60_000 });

export const shelves = () => queryOptions({ queryKey: ["shelves"], queryFn: () => answer(api.GET("/shelves")) });

export const shelf = (key: string) =>
  queryOptions({ queryKey: ["shelf", key], queryFn: () => answer(api.GET("/shelves/{shelf}", { params: { path: { shelf: key } } })) });

/** Branches a page at a time: all, or those with the words in their names. */
export const branches = (key: string, words = "") =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "branches", words],
    queryFn: ({ pageParam }) =>
      answer(
        api.GET("/shelves/{shelf}/branches", {
          params: { path: { shelf: key }, query: { words: words || undefined, cursor: pageParam || undefined } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
  });

/** Every branch, for a list to choose from. */
export const everyBranch = (key: string) =>
  queryOptions({
    queryKey: ["shelf", key, "every branch"],
    queryFn: async () => {
      const found: Branch[] = [];
      for (let cursor: string | null | undefined; cursor !== null; ) {
        const page = await answer(
          api.GET("/shelves/{shelf}/branches", { params: { path: { shelf: key }, query: { limit: 1000, cursor } } }),
        );
        found.push(...page.items);
        cursor = page.next;
      }
      return found;
    },
  });

/** Tags a page at a time, newest first: all, or those with the words in their names. */
export const tags = (key: string, words = "") =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "tags", words],
    queryFn: ({ pageParam }) =>
      answer(
        api.GET("/shelves/{shelf}/tags", {
          params: { path: { shelf: key }, query: { words: words || undefined, cursor: pageParam || undefined } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
  });

/** A state in short: its kinds with the newest artifacts of each, its folders and people. */
export const summary = (key: string, ref: string) =>
  queryOptions({
    queryKey: ["shelf", key, "summary", ref],
    queryFn: () => answer(api.GET("/shelves/{shelf}/summary", { params: { path: { shelf: key }, query: { ref } } })),
    placeholderData: keepPreviousData,
    staleTime: 10_000,
  });

export const ARTIFACTS_ON_A_PAGE = 200;
/** Which artifacts are listed, and in which order. */
export interface Listed {
  words?: string;
  kind?: string;
  by?: string;
  effect?: string;
  folder?: string;
  label?: string;
  /** Changed on this day or later. */
  since?: string;
  /** edited: what the reader has changed and not committed; same: the rest. */
  state?: string;
  sort: string;
}

/** One page of a list of artifacts, filtered and sorted by the service; the first is page 0. */
export const artifactPage = (key: string, ref: string, listed: Listed, page: number) =>
  queryOptions({
    queryKey: ["shelf", key, "artifacts", ref, listed, page],
    queryFn: () =>
      answer(
        api.GET("/shelves/{shelf}/artifacts", {
          params: {
            path: { shelf: key },
            query: {
              ...listed,
              ref,
              start: page * ARTIFACTS_ON_A_PAGE,
              limit: ARTIFACTS_ON_A_PAGE,
            },
          },
        }),
      ),
    placeholderData: keepPreviousData,
    staleTime: 10_000,
  });

/** All artifacts of a list, for a file. */
export async function everyArtifact(key: string, ref: string, listed: Listed): Promise<Artifact[]> {
  const found: Artifact[] = [];
  for (;;) {
    const page = await answer(
      api.GET("/shelves/{shelf}/artifacts", {
        params: {
          path: { shelf: key },
          query: {
            ...listed,
            ref,
            start: found.length,
            limit: 1000,
          },
        },
      }),
    );
    found.push(...page.items);
    if (page.items.length === 0 || found.length >= page.total) return found;
  }
}

export const artifact = (key: string, path: string, ref: string, version?: string) =>
  queryOptions({
    queryKey: ["shelf", key, "artifact", path, ref, version],
    queryFn: () =>
      answer(api.GET("/shelves/{shelf}/artifact", { params: { path: { shelf: key }, query: { path, ref, version: numberIn(version) } } })),
  });

export const outline = (key: string, path: string, ref: string, version?: string) =>
  queryOptions({
    queryKey: ["shelf", key, "outline", path, ref, version],
    queryFn: () =>
      answer(
        api.GET("/shelves/{shelf}/artifact/outline", {
          params: { path: { shelf: key }, query: { path, ref, version: numberIn(version) } },
        }),
      ),
  });

export const commit = (key: string, uid: string) =>
  queryOptions({
    queryKey: ["shelf", key, "commit", uid],
    queryFn: () => answer(api.GET("/shelves/{shelf}/commits/{uid}", { params: { path: { shelf: key, uid } } })),
  });

/** What a commit is part of. */
export const commitPlaces = (key: string, uid: string) =>
  queryOptions({
    queryKey: ["shelf", key, "commit places", uid],
    queryFn: () => answer(api.GET("/shelves/{shelf}/commits/{uid}/places", { params: { path: { shelf: key, uid } } })),
  });

/** What undoing a commit on a branch would do. */
export const undoing = (key: string, uid: string, branch: string) =>
  queryOptions({
    queryKey: ["shelf", key, "undoing", uid, branch],
    queryFn: () => answer(api.GET("/shelves/{shelf}/commits/{uid}/undo", { params: { path: { shelf: key, uid }, query: { branch } } })),
  });

/** One version of an artifact, and what has it. */
export const versionPlaces = (key: string, path: string, ref: string, version: string) =>
  queryOptions({
    queryKey: ["shelf", key, "version places", path, ref, version],
    queryFn: () =>
      answer(
        api.GET("/shelves/{shelf}/artifact/places", { params: { path: { shelf: key }, query: { path, ref, version: numberIn(version) } } }),
      ),
  });

/** Who last set each part or line, a page at a time. */
export const origins = (key: string, path: string, ref: string, version: string | undefined, form: string) =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "origins", path, ref, version, form],
    queryFn: ({ pageParam }) =>
      answer(
        api.GET("/shelves/{shelf}/artifact/origins", {
          params: {
            path: { shelf: key },
            query: {
              path,
              ref,
              version: numberIn(version),
              form: form || undefined,
              start: pageParam,
              limit: 1000,
            },
          },
        }),
      ),
    initialPageParam: 1,
    getNextPageParam: (last: Origins) => {
      const held = (last.parts ?? []).length + (last.lines ?? []).length;
      return last.form !== "rows" && held > 0 && last.start + held <= last.total ? last.start + held : undefined;
    },
  });

/** What each commit did to one part, line, row or cell. */
export const forms = (key: string, path: string, ref: string, version: string | undefined, of: Record<string, string>) =>
  queryOptions({
    queryKey: ["shelf", key, "forms", path, ref, version, of],
    queryFn: () =>
      answer(
        api.GET("/shelves/{shelf}/artifact/forms", {
          params: { path: { shelf: key }, query: { path, ref, version: numberIn(version), ...of } },
        }),
      ),
  });

export const text = (key: string, path: string, ref: string, version?: string, encoding?: string) =>
  queryOptions({
    queryKey: ["shelf", key, "text", path, ref, version, encoding],
    queryFn: () =>
      answer(
        api.GET("/shelves/{shelf}/artifact/text", {
          params: { path: { shelf: key }, query: { path, ref, version: numberIn(version), encoding } },
        }),
      ),
    retry: false,
  });

/** Versions of an artifact, newest first, a page at a time. */
export const artifactHistory = (key: string, path: string, ref: string) =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "history", path, ref],
    queryFn: ({ pageParam }) =>
      answer(
        api.GET("/shelves/{shelf}/artifact/history", {
          params: { path: { shelf: key }, query: { path, ref, cursor: pageParam || undefined } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
  });

/** History, a page at a time; pages that follow are of the same state. ``sought``: which commits are meant. */
export const commits = (key: string, ref: string, sought: Record<string, string | undefined> = {}) =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "commits", ref, sought],
    queryFn: ({ pageParam }) =>
      answer(
        api.GET("/shelves/{shelf}/commits", {
          params: { path: { shelf: key }, query: { ref, ...sought, cursor: pageParam || undefined } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
  });

export const comparison = (key: string, from: string, to: string) =>
  queryOptions({
    queryKey: ["shelf", key, "compare", from, to],
    queryFn: () => answer(api.GET("/shelves/{shelf}/compare", { params: { path: { shelf: key }, query: { from, to } } })),
    // a job works out what takes long; ask again until nothing is pending
    refetchInterval: (query) => (query.state.data?.pending ? 700 : false),
  });

export const artifactComparison = (key: string, path: string, from: string, to: string, oldPath?: string) =>
  queryOptions({
    queryKey: ["shelf", key, "compare", from, to, path],
    queryFn: () =>
      answer(
        api.GET("/shelves/{shelf}/compare/artifact", { params: { path: { shelf: key }, query: { path, from, to, old_path: oldPath } } }),
      ),
  });

export const drawing = (key: string, path: string, ref: string, version?: string) =>
  queryOptions({
    queryKey: ["shelf", key, "drawing", path, ref, version],
    queryFn: () =>
      answer(
        api.GET("/shelves/{shelf}/artifact/drawing", {
          params: { path: { shelf: key }, query: { path, ref, version: numberIn(version) } },
        }),
      ),
  });

export const uses = (
  key: string,
  path: string,
  ref: string,
  asked: { part?: string; depth?: number; limit?: number; exact?: boolean } = {},
) =>
  queryOptions({
    queryKey: ["shelf", key, "uses", path, ref, asked],
    queryFn: () =>
      answer(
        api.GET("/shelves/{shelf}/artifact/uses", {
          params: {
            path: { shelf: key },
            query: {
              path,
              ref,
              part: asked.part || undefined,
              depth: asked.depth,
              limit: asked.limit,
              exact: asked.exact || undefined,
            },
          },
        }),
      ),
  });

export const lineage = (key: string, path: string, ref: string) =>
  queryOptions({
    queryKey: ["shelf", key, "lineage", path, ref],
    queryFn: () => answer(api.GET("/shelves/{shelf}/artifact/lineage", { params: { path: { shelf: key }, query: { path, ref } } })),
  });

export const unfolded = (key: string, path: string, ref: string, version?: string) =>
  queryOptions({
    queryKey: ["shelf", key, "unfolded", path, ref, version],
    queryFn: () =>
      answer(
        api.GET("/shelves/{shelf}/artifact/unfolded", {
          params: { path: { shelf: key }, query: { path, ref, version: numberIn(version) } },
        }),
      ),
    retry: false,
  });

export const compareDrawing = (key: string, path: string, from: string, to: string) =>
  queryOptions({
    queryKey: ["shelf", key, "compare drawing", from, to, path],
    queryFn: () => answer(api.GET("/shelves/{shelf}/compare/drawing", { params: { path: { shelf: key }, query: { path, from, to } } })),
  });

const ROWS_AT_ONCE = 100;

export const compareRows = (key: string, path: string, from: string, to: string, action: string, column: string, table = "") =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "compare rows", from, to, path, action, column, table],
    queryFn: ({ pageParam }) =>
      answer(
        api.GET("/shelves/{shelf}/compare/rows", {
          params: {
            path: { shelf: key },
            query: {
              path,
              from,
              to,
              start: pageParam,
              count: ROWS_AT_ONCE,
              action: action || undefined,
              column: column || undefined,
              table: table || undefined,
            },
          },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (last) => (last.start + last.rows.length < last.total ? last.start + last.rows.length : undefined),
  });

export const environments = (key: string) =>
  queryOptions({
    queryKey: ["shelf", key, "environments"],
    queryFn: () => answer(api.GET("/shelves/{shelf}/environments", { params: { path: { shelf: key } } })),
    refetchInterval: 15_000,
  });

export const deployments = (key: string, name: string) =>
  queryOptions({
    queryKey: ["shelf", key, "environments", name, "deployments"],
    queryFn: () => answer(api.GET("/shelves/{shelf}/environments/{name}/deployments", { params: { path: { shelf: key, name } } })),
  });

export const job = (uid: string) =>
  queryOptions({
    queryKey: ["job", uid],
    queryFn: () => answer(api.GET("/jobs/{uid}", { params: { path: { uid } } })),
    refetchInterval: (query) => (ended(query.state.data) ? false : 400),
  });

export function ended(found?: Job): boolean {
  return found !== undefined && ["done", "failed", "cancelled"].includes(found.state);
}
