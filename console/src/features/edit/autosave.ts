/** Edits go into the draft as they are made: after a moment of quiet, one after the other; kept here while they cannot be sent. */
import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";
import { answer, api, isSignedOut, type Problem, ProblemError, SIGNED_IN } from "../../api/client";

export type SaveState = "same" | "edited" | "saving" | "saved" | "kept here" | "signed out" | "moved" | "refused";

/** What is to be changed: the whole text, or fields and cells. */
export interface Change {
  text?: string;
  parts?: { part: string; field: string; value: unknown }[];
  cells?: { row: number; column: string; value: string; was: string }[];
}

interface Target {
  /** Who edits: what is kept in this browser is theirs alone. */
  person: string;
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

const keptUnder = (t: Target) => `everyshelf edit ${t.person} ${t.shelf} ${t.branch} ${t.path}`;

/** What could not be sent before the page was left, if it was made on the same content. */
export function keptChange(target: Target): Change | null {
  try {
    const kept = JSON.parse(localStorage.getItem(keptUnder(target)) ?? "null") as {
      content: string;
      change: Change;
    } | null;
    return kept && kept.content === target.content ? kept.change : null;
  } catch {
    return null;
  }
}

/** Both changes as one: a text stands for all there is, fields and cells are added, and of one field the newest counts. */
export function together(before: Change | null, now: Change): Change {
  if (now.text !== undefined) return now;
  const again = (part: string, field: string) => now.parts?.some((one) => one.part === part && one.field === field);
  return {
    ...(before?.text !== undefined && { text: before.text }),
    parts: [...(before?.parts ?? []).filter((one) => !again(one.part, one.field)), ...(now.parts ?? [])],
    cells: [...(before?.cells ?? []), ...(now.cells ?? [])],
  };
}

/** `onAnswered` is waited for before an edit counts as saved, or as refused. */
export function useAutosave(target: Target, onAnswered: () => Promise<void>) {
  const queries = useQueryClient();
  const at = useRef({ content: target.content, point: target.point });
  const next = useRef<Change | null>(null);
  const running = useRef(false);
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const [state, setState] = useState<SaveState>("same");
  const [saved, setSaved] = useState<string | null>(null);
  const [problem, setProblem] = useState<Problem | null>(null);
  const { shelf, branch, path, base } = target;

  /** Keep what waits in this browser, until it is sent. */
  const keep = useCallback(() => {
    if (next.current) localStorage.setItem(keptUnder(target), JSON.stringify({ content: at.current.content, change: next.current }));
  }, [target]);

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
    let waits = false; // for the service, for a person to sign in, or for a decision
    setState("saving");
    try {
      const draft = await sendOne(change, at.current.point);
      localStorage.removeItem(keptUnder(target));
      await onAnswered();
      setSaved(draft.saved ?? new Date().toISOString());
      setProblem(null);
      setState(next.current ? "edited" : "saved");
      void queries.invalidateQueries({ queryKey: ["shelf", shelf, "drafts"] });
    } catch (error) {
      const found = error instanceof ProblemError ? error.problem : { detail: String(error), code: "console.failed" };
      setProblem(found);
      const away = found.code === "service.unreachable" || (found.status ?? 0) >= 500;
      const later = away || isSignedOut(error);
      if (later || found.code === "draft.moved") next.current = next.current ? together(change, next.current) : change;
      if (later) keep();
      else {
        localStorage.removeItem(keptUnder(target)); // it would be refused each time the artifact is opened
        await onAnswered();
      }
      setState(away ? "kept here" : later ? "signed out" : found.code === "draft.moved" ? "moved" : "refused");
      if (away) timer.current = setTimeout(() => void run(), AGAIN_MS);
      waits = later || found.code === "draft.moved";
    } finally {
      running.current = false;
    }
    if (next.current && !timer.current && !waits) timer.current = setTimeout(() => void run(), QUIET_MS);
  }, [sendOne, keep, onAnswered, queries, shelf, target]);

  /** Note a change; texts replace what waits, fields and cells are added to it. */
  const edit = useCallback(
    (change: Change, now = false) => {
      next.current = together(next.current, change);
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
    const again = () => void run();
    window.addEventListener(SIGNED_IN, again);
    return () => window.removeEventListener(SIGNED_IN, again);
  }, [run]);
  useEffect(() => {
    const leaving = (event: BeforeUnloadEvent) => {
      if (["edited", "saving", "kept here", "signed out"].includes(state)) event.preventDefault();
    };
    window.addEventListener("beforeunload", leaving);
    window.addEventListener("pagehide", keep);
    return () => {
      window.removeEventListener("beforeunload", leaving);
      window.removeEventListener("pagehide", keep);
    };
  }, [state, keep]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the list says when it runs again
  useEffect(
    () => () => {
      clearTimeout(timer.current);
      timer.current = undefined;
      keep();
      void run();
    },
    [], // what waits is sent when the page is left, and only then
  );
  return { edit, insist, state, saved, problem };
}
