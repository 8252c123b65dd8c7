/** What waits to be committed from this browser. Contents are on the shelf already; the list is kept in local storage,
 * so that a closed browser loses nothing that was acknowledged. */
import { useSyncExternalStore } from "react";

export interface Pending {
  path: string;
  state: "new" | "edited" | "gone";
  content: string | null;
  size: number;
  branch: string;
  base: string | null;
  kept: string;
}

const listeners = new Set<() => void>();
const cache = new Map<string, { raw: string; list: Pending[] }>();

function storageKey(shelf: string): string {
  return `everyshelf.pending.${shelf}`;
}

function read(shelf: string): Pending[] {
  const raw = localStorage.getItem(storageKey(shelf)) ?? "[]";
  const known = cache.get(shelf);
  if (known?.raw === raw) return known.list;
  let list: Pending[] = [];
  try {
    list = JSON.parse(raw) as Pending[];
  } catch {
    list = [];
  }
  cache.set(shelf, { raw, list });
  return list;
}

function write(shelf: string, list: Pending[]): void {
  localStorage.setItem(storageKey(shelf), JSON.stringify(list));
  for (const tell of listeners) tell();
}

function subscribe(tell: () => void): () => void {
  listeners.add(tell);
  window.addEventListener("storage", tell);
  return () => {
    listeners.delete(tell);
    window.removeEventListener("storage", tell);
  };
}

export function usePending(shelf: string) {
  const pending = useSyncExternalStore(subscribe, () => read(shelf));
  return {
    pending,
    keep: (change: Pending) => write(shelf, [...read(shelf).filter((p) => p.path !== change.path || p.branch !== change.branch), change]),
    drop: (paths: string[]) => write(shelf, read(shelf).filter((p) => !paths.includes(p.path))),
  };
}
