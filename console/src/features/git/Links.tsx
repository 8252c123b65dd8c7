/** The links of a shelf: how far both sides are from each other, and what can be done about it. */

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { answer, api, type Schemas } from "../../api/client";
import { ended, job } from "../../api/queries";
import { count, when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Ask } from "../../parts/Ask";
import { Choice } from "../../parts/Choice";
import { Table } from "../../parts/Table";
import { useDone } from "../../shell/Done";
import { ProblemBox } from "../../shell/states";
import { ChangeLink } from "./ChangeLink";
import { type GitLink, gitLink, gitLinks, moved, PARTS, type Parts, partsOf } from "./queries";

export const WAYS: Record<string, string> = { send: "sends", fetch: "fetches", both: "both ways" };
const MOST_SQUARES = 4;

export function Links({ shelf }: { shelf: string }) {
  const found = useQuery(gitLinks(shelf));
  const [shown, setShown] = useState("");
  if (!found.data?.length) return found.isError ? <ProblemBox error={found.error} /> : null;
  return (
    <section className="sheet scroll" style={{ marginTop: 10 }} aria-label="Links">
      <div className="ph">
        <h2 className="h3">Links</h2>
        <span className="cap">{found.data.length}</span>
        <span className="r cap sides">
          <Square filled />
          only on the shelf
          <Square />
          only in Git
        </span>
      </div>
      <Table className="links">
        <thead className="sr">
          <tr>
            <th>Link</th>
            <th>Joins</th>
            <th>Way</th>
            <th>Apart</th>
            <th>State</th>
            <th>Next</th>
          </tr>
        </thead>
        <tbody>
          {found.data.map((link) => (
            <Row
              key={link.name}
              shelf={shelf}
              link={link}
              open={shown === link.name}
              onOpen={() => setShown(shown === link.name ? "" : link.name)}
            />
          ))}
        </tbody>
      </Table>
    </section>
  );
}

function Row({ shelf, link, open, onOpen }: { shelf: string; link: GitLink; open: boolean; onOpen: () => void }) {
  const queries = useQueryClient();
  const [uid, setUid] = useState("");
  const work = useQuery({ ...job(uid), enabled: uid !== "" });
  const isWorking = uid !== "" && !ended(work.data);
  const act = useMutation({
    mutationFn: (what: "send" | "fetch") => moved(shelf, link.name, what),
    onSuccess: (begun) => setUid(begun.job),
  });
  if (uid !== "" && ended(work.data)) {
    setUid("");
    void queries.invalidateQueries({ queryKey: ["shelf", shelf] });
  }
  const laid = link.parts === "none" ? "" : `, parts ${link.parts === "instead" ? "instead of files" : "beside files"}`;
  const joins = link.joins.length
    ? link.joins.map(([here, there]) => (here === there ? here : `${here} and ${there}`)).join(", ")
    : "all branches";
  const waits = link.lines.find((line) => line.merge);
  const why = link.lines.find((line) => line.why);
  return (
    <>
      <tr className={waits ? "chosen" : ""}>
        <td>
          <b>{link.name}</b>
          <span className="cap mono el" title={link.address}>
            {link.address}
          </span>
        </td>
        <td>
          {joins}
          <span className="cap">
            {link.folder ? `only ${link.folder}${link.place ? `, in ${link.place} there` : ""}` : link.tags ? "with tags" : "without tags"}
            {laid}
          </span>
        </td>
        <td>
          {WAYS[link.way]}
          <span className="cap">{link.follows ? "follows" : "when asked"}</span>
        </td>
        <td>
          <Apart lines={link.lines} />
        </td>
        <td>
          <b>{isWorking ? "working" : apart(link)}</b>
          <span className="cap" title={link.since ?? ""}>
            {isWorking ? (work.data?.note ?? "") : link.since ? `since ${when(link.since)}` : "not looked yet"}
          </span>
        </td>
        <td className="num">
          {waits ? (
            <Link to={`/s/${shelf}/settle/${waits.merge}`}>Settle</Link>
          ) : (
            <>
              {link.way !== "send" && (
                <TextAct disabled={isWorking} aria-label={`Fetch ${link.name}`} onClick={() => act.mutate("fetch")}>
                  Fetch
                </TextAct>
              )}{" "}
              {link.way !== "fetch" && (
                <TextAct disabled={isWorking} aria-label={`Send ${link.name}`} onClick={() => act.mutate("send")}>
                  Send
                </TextAct>
              )}{" "}
            </>
          )}{" "}
          <TextAct aria-expanded={open} aria-label={`${open ? "Hide" : "Show"} ${link.name}`} onClick={onOpen}>
            {open ? "Hide" : "Show"}
          </TextAct>
        </td>
      </tr>
      {(why ?? link.problem) && (
        <tr className={waits ? "chosen why" : "why"}>
          <td colSpan={6}>
            <b>
              {why ? `${why.branch}: ` : ""}
              {why?.why ?? link.problem?.detail}
            </b>{" "}
            <span className="sec">{why?.merge ? "" : why?.hint || link.problem?.hint}</span>
          </td>
        </tr>
      )}
      {act.isError && (
        <tr>
          <td colSpan={6}>
            <ProblemBox error={act.error} />
          </td>
        </tr>
      )}
      {open && (
        <tr>
          <td colSpan={6}>
            <Transfers shelf={shelf} link={link} />
          </td>
        </tr>
      )}
    </>
  );
}

function apart(link: GitLink): string {
  const sum = (side: "ahead" | "behind") => link.lines.reduce((n, line) => n + (line[side] ?? 0), 0);
  if (link.state === "ahead") return `ahead ${sum("ahead")}`;
  return link.state === "behind" && sum("behind") ? `behind ${sum("behind")}` : link.state;
}

/** Two lines from the last shared commit: above what only the shelf has, filled; below what only Git has, hollow. */
function Apart({ lines }: { lines: GitLink["lines"] }) {
  const ahead = lines.reduce((n, line) => n + (line.ahead ?? 0), 0);
  const behind = lines.reduce((n, line) => n + (line.behind ?? 0), 0);
  const squares = (n: number, y: number, filled: boolean) => {
    const shown = Math.min(n, MOST_SQUARES);
    const fill = filled ? "var(--accent)" : "var(--sheet)";
    return (
      <>
        {shown > 0 && <path d={`M34 ${y}H${46 + 15 * shown}`} stroke="var(--accent)" strokeWidth="1.4" />}
        {Array.from({ length: shown }, (_, at) => (
          <rect key={at} x={42 + 15 * at} y={y - 4} width="8" height="8" fill={fill} stroke="var(--accent)" strokeWidth="1.5" />
        ))}
      </>
    );
  };
  const words = `${count(ahead, "commit")} only on the shelf, ${count(behind, "commit")} only in Git`;
  return (
    <svg width="112" height="30" role="img" aria-label={words}>
      <title>{words}</title>
      <path d="M2 9H34M2 21H34M34 3V27" stroke="var(--ink-3)" strokeWidth="1.4" />
      {squares(ahead, 9, true)}
      {squares(behind, 21, false)}
    </svg>
  );
}

function Square({ filled = false }: { filled?: boolean }) {
  return (
    <svg width="10" height="10" aria-hidden="true">
      <rect x="1" y="1" width="8" height="8" fill={filled ? "var(--accent)" : "var(--sheet)"} stroke="var(--accent)" strokeWidth="1.5" />
    </svg>
  );
}

/** What went over a link, and the acts that are seldom needed. */
function Transfers({ shelf, link }: { shelf: string; link: GitLink }) {
  const queries = useQueryClient();
  const found = useQuery(gitLink(shelf, link.name));
  const again = () => queries.invalidateQueries({ queryKey: ["shelf", shelf, "git-links"] });
  const follow = useMutation({
    mutationFn: () =>
      answer(
        api.PATCH("/shelves/{shelf}/git/links/{link}", { params: { path: { shelf, link: link.name } }, body: { follows: !link.follows } }),
      ),
    onSuccess: async () => {
      await again();
      const back = () =>
        answer(
          api.PATCH("/shelves/{shelf}/git/links/{link}", { params: { path: { shelf, link: link.name } }, body: { follows: link.follows } }),
        );
      done({ said: link.follows ? `${link.name} no longer follows.` : `${link.name} follows now.`, undo: back });
    },
  });
  const lay = useMutation({
    mutationFn: (parts: Parts) =>
      answer(api.PATCH("/shelves/{shelf}/git/links/{link}", { params: { path: { shelf, link: link.name } }, body: { parts } })),
    onSuccess: again,
  });
  const done = useDone();
  const call = useMutation({
    mutationFn: () => answer(api.POST("/shelves/{shelf}/git/links/{link}/calls", { params: { path: { shelf, link: link.name } } })),
  });
  const error = follow.error ?? lay.error ?? call.error;
  const remove = async () => {
    await answer(api.DELETE("/shelves/{shelf}/git/links/{link}", { params: { path: { shelf, link: link.name } } }));
    await again();
  };
  return (
    <>
      <div className="line1">
        <span className="cap">
          Made by {link.made_by}
          {link.looked ? `, looked ${when(link.looked)}` : ""}
          {link.next_look ? `, next ${when(link.next_look)}` : ""}
        </span>
        <span className="end">
          <Choice
            label="Parts lie"
            id={`parts-${link.name}`}
            value={link.parts ?? ""}
            disabled={lay.isPending}
            onChange={(e) => lay.mutate(partsOf(e.target.value))}
          >
            {PARTS.map(([id, words]) => (
              <option key={id} value={id}>
                {words.toLowerCase()}
              </option>
            ))}
          </Choice>{" "}
          <TextAct onClick={() => call.mutate()}>Let the other side call</TextAct>{" "}
          <TextAct onClick={() => follow.mutate()}>{link.follows ? "Follow no longer" : "Follow"}</TextAct>{" "}
          <ChangeLink shelf={shelf} link={link} />{" "}
          <Ask
            label="Remove the link"
            title={`Remove link ${link.name}`}
            does="Nothing is sent or fetched over it from then on. The shelf and the repository keep what they have."
            act="Remove it"
            onAct={remove}
          />
        </span>
      </div>
      {error && <ProblemBox error={error} />}
      {call.data && (
        <dl aria-label={`How ${link.name} is called`}>
          <dt className="cap">Address for its webhook</dt>
          <dd className="mono">
            {location.origin}
            {call.data.address}
          </dd>
          <dt className="cap">Secret, shown once</dt>
          <dd className="mono">{call.data.secret}</dd>
        </dl>
      )}
      {found.data && found.data.transfers.length > 0 && (
        <Table aria-label={`Sent and fetched over ${link.name}`}>
          <thead>
            <tr>
              <th>When</th>
              <th>Way</th>
              <th>Commit</th>
              <th>Who</th>
              <th>Branch</th>
              <th>On the shelf</th>
              <th>In Git</th>
            </tr>
          </thead>
          <tbody>
            {found.data.transfers.slice(0, 20).map((one) => (
              <Transfer key={`${one.commit}${one.at}`} shelf={shelf} one={one} />
            ))}
          </tbody>
        </Table>
      )}
    </>
  );
}

function Transfer({ shelf, one }: { shelf: string; one: Schemas["GitTransferAnswer"] }) {
  return (
    <tr>
      <td title={one.at}>{when(one.at)}</td>
      <td>{one.fetched ? "fetched" : "sent"}</td>
      <td className="wrap">{one.summary}</td>
      <td>{one.author}</td>
      <td>{one.branch}</td>
      <td>
        <Link className="mono" to={`/s/${shelf}/commit/${one.commit}`}>
          {one.commit.slice(0, 8)}
        </Link>
      </td>
      <td className="mono">{one.git.slice(0, 8)}</td>
    </tr>
  );
}
