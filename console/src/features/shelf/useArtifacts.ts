/** A list of artifacts of any length: the pages in sight are asked for, all of the same state. */
import { useQueries, useQuery } from "@tanstack/react-query";
import { useCallback, useState } from "react";
import { ARTIFACTS_ON_A_PAGE, type Artifact, artifactPage, type Listed } from "../../api/queries";

export function useArtifacts(key: string, ref: string, listed: Listed) {
  const first = useQuery(artifactPage(key, ref, listed, 0));
  const [range, setRange] = useState<[number, number]>([0, 0]);
  const total = first.data?.total ?? 0;
  const state = first.data?.commit && !ref.startsWith("draft") ? `commit:${first.data.commit}` : ref;
  const last = Math.min(range[1], Math.max(0, Math.ceil(total / ARTIFACTS_ON_A_PAGE) - 1));
  const wanted = Array.from({ length: Math.max(0, last - range[0] + 1) }, (_, n) => range[0] + n).filter((page) => page > 0);
  const more = useQueries({ queries: wanted.map((page) => artifactPage(key, state, listed, page)) });
  const row = (index: number): Artifact | undefined => {
    const page = Math.floor(index / ARTIFACTS_ON_A_PAGE);
    const held = page === 0 ? first : more[wanted.indexOf(page)];
    // While a page is being fetched the one before it may stand in its place; its rows are not these.
    return held && !(page > 0 && held.isPlaceholderData) ? held.data?.items[index % ARTIFACTS_ON_A_PAGE] : undefined;
  };
  const see = useCallback((from: number, to: number) => {
    const pages: [number, number] = [Math.floor(from / ARTIFACTS_ON_A_PAGE), Math.floor(to / ARTIFACTS_ON_A_PAGE)];
    setRange((old) => (old[0] === pages[0] && old[1] === pages[1] ? old : pages));
  }, []);
  return { first, total, row, see };
}
