/** Edits go into the draft as they are made: after a moment of quiet, one after the other, kept here while the service is out of reach. */
import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";
import { answer, api, type Problem, ProblemError } from "../../api/client";

export type SaveState = "same" | "edited" | "saving" | "saved" | "kept here" | "moved" | "refused";

/** What is to be changed: the whole text, or fields and cells. */
export interface Change {
  text?: string;
  parts?: { part: string; field: string; value: unknown }[];
  cells?: { row: number; column: string; value: string; was: string }[];
}

interface Target {
  shelf: string;
  branch: string;
  path: string;
  /** The commit the page shows. */
  base: string | null;
  /** The content that is edited, and the save point it is (0: the branch's own). */
  content: string;
  point: number;
}

const QUIET_MS = 700;
const AGAIN_MS = 3000;

const keptUnder = (t: Target) => `everyshelf edit ${t.shelf} ${t.branch} ${t.path}`;

/** A text that could not be sent before the page was left, if it was made on the same content. */
export function keptText(target: Target): string | null {
  try {
    const kept = JSON.parse(localStorage.getItem(keptUnder(target)) ?? "null") as {
      content: string;
      text: string;
    } | null;
    return kept && kept.content === target.content ? kept.text : null;
  } catch {
    return null;
  }
}

export function useAutosave(target: Target) {
  const queries = useQueryClient();
  const at = useRef({ content: target.content, point: target.point });
  const next = useRef<Change | null>(null);
  const running = useRef(false);
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const [state, setState] = useState<SaveState>("same");
  const [saved, setSaved] = useState<string | null>(null);
  const [problem, setProblem] = useState<Problem | null>(null);
  const { shelf, branch, path, base } = target;

  const sendOne = useCallback(
    async (change: Change, onto: number) => {
      const made = await answer(
        api.POST("/shelves/{shelf}/contents/edit", {
          params: { path: { shelf } },
          body: {
            content: at.current.content,
            path,
            ref: branch,
            ...change,
          },
        }),
      );
      const entries = [{ path, content: made.id, onto }];
      const draft = await answer(api.POST("/shelves/{shelf}/drafts", { params: { path: { shelf } }, body: { branch, base, entries } }));
      at.current = { content: made.id, point: draft.entries.find((e) => e.path === path)?.point ?? 0 };
      return draft;
    },
    [shelf, branch, path, base],
  );

  const run = useCallback(async () => {
    if (running.current || !next.current) return;
    running.current = true;
    const change = next.current;
    next.current = null;
    setState("saving");
    try {
      const draft = await sendOne(change, at.current.point);
      localStorage.removeItem(keptUnder(target));
      setSaved(draft.saved ?? new Date().toISOString());
      setProblem(null);
      setState(next.current ? "edited" : "saved");
      void queries.invalidateQueries({ queryKey: ["shelf", shelf, "drafts"] });
    } catch (error) {
      const found = error instanceof ProblemError ? error.problem : { detail: String(error), code: "console.failed" };
      setProblem(found);
      if (found.code === "service.unreachable" || (found.status ?? 0) >= 500) {
        next.current ??= change;
        if (change.text !== undefined)
          localStorage.setItem(keptUnder(target), JSON.stringify({ content: target.content, text: change.text }));
        setState("kept here");
        timer.current = setTimeout(() => void run(), AGAIN_MS);
      } else {
        if (found.code === "draft.moved") next.current ??= change;
        setState(found.code === "draft.moved" ? "moved" : "refused");
      }
    } finally {
      running.current = false;
    }
    if (next.current && !timer.current) timer.current = setTimeout(() => void run(), QUIET_MS);
  }, [sendOne, queries, shelf, target]);

  /** Note a change; texts replace what waits, fields and cells are added to it. */
  const edit = useCallback(
    (change: Change, now = false) => {
      const before = next.current;
      next.current =
        change.text !== undefined
          ? change
          : {
              parts: [...(before?.parts ?? []), ...(change.parts ?? [])],
              cells: [...(before?.cells ?? []), ...(change.cells ?? [])],
            };
      setState("edited");
      clearTimeout(timer.current);
      timer.current = setTimeout(
        () => {
          timer.current = undefined;
          void run();
        },
        now ? 0 : QUIET_MS,
      );
    },
    [run],
  );

  /** Save what was refused onto the newer save point: what is here counts. */
  const insist = useCallback(() => {
    const point = (problem as { point?: number } | null)?.point;
    if (point !== undefined) at.current.point = point;
    void run();
  }, [problem, run]);

  useEffect(() => {
    const leaving = (event: BeforeUnloadEvent) => {
      if (state === "edited" || state === "saving" || state === "kept here") event.preventDefault();
    };
    window.addEventListener("beforeunload", leaving);
    return () => window.removeEventListener("beforeunload", leaving);
  }, [state]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the list says when it runs again
  useEffect(
    () => () => {
      clearTimeout(timer.current);
      timer.current = undefined;
      void run();
    },
    [], // what waits is sent when the page is left, and only then
  );
  return { edit, insist, state, saved, problem };
}
