/** Beside a part, wherever parts are shown: who gave it its present form, when, and why. */
import { useQuery } from "@tanstack/react-query";
import { createContext, type ReactNode, useContext, useMemo } from "react";
import { Link } from "react-router";
import { AT_ONCE, answer, api, isWorkedOut } from "../../api/client";
import { numberIn } from "../../api/given";
import { tone, when } from "../../marks/words";
import { type OriginCommit, setBy, TONES } from "./model";

interface Asked {
  shelf: string;
  path: string;
  at: string;
  version?: string;
}

interface Known {
  asked: Asked;
  set: Map<string, OriginCommit>;
}

const Origins = createContext<Known | null>(null);
const MOST_PARTS = 1000;
const ASK_AGAIN_MS = 1500;
const MOST_ASKED = 40;

/** Lets the parts inside say their origins once they are known; until then, and where none are kept, they say nothing. */
export function WithOrigins({ of, children }: { of: Asked; children: ReactNode }) {
  const { shelf, path, at, version } = of;
  const found = useQuery({
    queryKey: ["shelf", shelf, "parts set", path, at, version],
    queryFn: () => {
      const query = { path, ref: at, version: numberIn(version), form: "parts", limit: MOST_PARTS };
      return answer(api.GET("/shelves/{shelf}/artifact/origins", { params: { path: { shelf }, query }, ...AT_ONCE }));
    },
    retry: (asked, error) => isWorkedOut(error) && asked < MOST_ASKED,
    retryDelay: ASK_AGAIN_MS,
    staleTime: 60_000,
  });
  const known = useMemo(
    () => (found.data ? { asked: { shelf, path, at, version }, set: setBy(found.data) } : null),
    [found.data, shelf, path, at, version],
  );
  return <Origins.Provider value={known}>{children}</Origins.Provider>;
}

/** In a list: who and when. */
export function SetBy({ part }: { part: string }) {
  const commit = useContext(Origins)?.set.get(part);
  if (!commit) return null;
  return (
    <span className="setby" title={commit.summary}>
      <i className={`tone${tone(commit.recorded)}`} title={TONES[tone(commit.recorded)]} /> {commit.author}, {when(commit.recorded)}
    </span>
  );
}

/** Of the chosen part: who, when and why, with the way to the commit and to the forms it had before. */
export function SetByWhom({ part }: { part: string }) {
  const known = useContext(Origins);
  const commit = known?.set.get(part);
  if (!known || !commit) return null;
  const { shelf, path, at, version } = known.asked;
  const forms = new URLSearchParams({ path, ref: at, view: "origins", part, ...(version ? { version } : {}) });
  return (
    <p className="pad setbywhom">
      Set by <b>{commit.author}</b>, {when(commit.recorded)}: <Link to={`/s/${shelf}/commit/${commit.commit}`}>“{commit.summary}”</Link>{" "}
      <Link to={`/s/${shelf}/artifact?${forms}`}>Its earlier forms</Link>
    </p>
  );
}
