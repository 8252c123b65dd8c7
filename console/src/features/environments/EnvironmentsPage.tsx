import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { send } from "../../api/client";
import { type Environment, environments, type Job, type Rehearsal, tags } from "../../api/queries";
import { Tick } from "../../marks/Mark";
import { when } from "../../marks/words";
import { Page, useShelfKey } from "../../shell/Page";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { JobProgress } from "./JobProgress";
import { RehearsalView } from "./RehearsalView";
import { Timeline } from "./Timeline";

export function EnvironmentsPage() {
  const key = useShelfKey();
  const places = useQuery(environments(key));
  const marks = useQuery(tags(key));
  const [name, setName] = useParam("env");
  const [tag, setTag] = useParam("tag");
  const [running, setRunning] = useState<string | null>(null);
  const queries = useQueryClient();
  const chosen = places.data?.find((e) => e.name === name) ?? places.data?.find((e) => e.waiting) ?? places.data?.[0];
  const wanted = tag || chosen?.waiting || chosen?.current?.tag || marks.data?.[0]?.name || "";
  const rehearsal = useMutation({
    mutationFn: () => send<Rehearsal>("POST", `shelves/${key}/environments/${chosen?.name}/rehearse`, { tag: wanted }),
  });
  const start = useMutation({
    mutationFn: (act: { path: string; body: object }) => send<Job>("POST", `shelves/${key}/environments/${act.path}`, act.body),
    onSuccess: (job) => setRunning(job.job),
  });
  const done = async () => {
    await queries.invalidateQueries({ queryKey: ["shelf", key] });
    rehearsal.reset();
  };
  const route = places.data?.map((e) => e.name).join(" → ") ?? "";
  const waiting = places.data?.find((e) => e.waiting);
  return (
    <Page page="environments" title="Environments" at="main" say={<><i className="j">the route</i> {route}</>}>
      <div className="line1">
        <h1>{waiting ? <><b style={{ color: "var(--accent)" }}>tag:{waiting.waiting}</b> waits for {waiting.name}.</> : places.data?.length ? "Nothing waits." : "Environments"}</h1>
        <span className="end"><MakeEnvironment /></span>
      </div>
      {places.isPending && <Loading what="Reading the environments" />}
      {places.isError && <ProblemBox error={places.error} />}
      {places.data?.length === 0 && <Empty>An environment is where tagged versions are put: development, test, production. Make the first one; its place is a folder.</Empty>}
      <div className="route">
        {places.data?.map((e, i) => (
          <Station key={e.name} environment={e} first={i === 0} chosen={e === chosen} known={rehearsal.data?.environment === e.name ? rehearsal.data : undefined} onChoose={() => { setName(e.name); rehearsal.reset(); }} onRollBack={() => start.mutate({ path: `${e.name}/roll-back`, body: { why: "rolled back from the console" } })} />
        ))}
      </div>
      {start.isError && <ProblemBox error={start.error} />}
      {running && <JobProgress uid={running} onDone={() => void done()} />}
      {chosen && (
        <div className="line1" style={{ marginTop: 12 }}>
          <label htmlFor="tag-to-put" className="sec sm">Tag for {chosen.name}</label>
          <select id="tag-to-put" className="inp" value={wanted} onChange={(e) => { setTag(e.target.value); rehearsal.reset(); }}>
            {marks.data?.map((t) => <option key={t.name} value={t.name}>tag:{t.name}</option>)}
          </select>
          <Button variant={rehearsal.data ? "outlined" : "contained"} disabled={!wanted || rehearsal.isPending} onClick={() => rehearsal.mutate()}>{rehearsal.data ? "Rehearse again" : "Rehearse"}</Button>
          {rehearsal.isPending && <span className="sec" role="status">Rehearsing; nothing is touched …</span>}
        </div>
      )}
      {rehearsal.isError && <ProblemBox error={rehearsal.error} />}
      {rehearsal.data && chosen && (
        <RehearsalView
          rehearsal={rehearsal.data} busy={start.isPending}
          onPromote={(why, overwrite) => start.mutate({ path: `${chosen.name}/promote`, body: { tag: wanted, why, overwrite_drift: overwrite } })}
        />
      )}
      {places.data && places.data.length > 0 && <Timeline places={places.data} />}
    </Page>
  );
}

interface StationProps {
  environment: Environment;
  first: boolean;
  chosen: boolean;
  /** the rehearsal for this environment, once there is one: only then it is known which gates are met */
  known?: Rehearsal;
  onChoose: () => void;
  onRollBack: () => void;
}

function Station({ environment: e, first, chosen, known, onChoose, onRollBack }: StationProps) {
  const asked = [e.fed_from && `from ${e.fed_from}`, e.earlier_first && "earlier environment first"].filter(Boolean) as string[];
  return (
    <>
      {!first && (
        <div className="gate">
          <span className="cap">Gates into {e.name}</span>
          <ul>
            {known
              ? known.gates.map((g) => <li key={g.gate} className={g.met ? "" : "no"}><Tick met={g.met} /><span><b>{g.gate}</b><br /><span className="sec">{g.said}</span></span></li>)
              : asked.map((g) => <li key={g}>{g}</li>)}
            {asked.length === 0 && <li className="mut">none</li>}
          </ul>
        </div>
      )}
      <section className={`sheet stn ${chosen ? "" : "quiet"}`} aria-label={`Environment ${e.name}`}>
        <header><h2>{e.name}</h2><span className="cap">{e.destination}, fed from {e.fed_from || "any branch"}</span></header>
        <div className="run">
          <span className="mono">{e.current ? `tag:${e.current.tag}` : "nothing yet"}</span>
          <span className="sec sm">{e.current ? `since ${when(e.current.ended)}, by ${e.current.who}` : "no deployment"}</span>
        </div>
        <div className="kv"><span className="cap">Waiting</span><span>{e.waiting ? <b className="mono">tag:{e.waiting}</b> : "nothing"}</span></div>
        <div className="kv">
          <span className="cap">Before it</span>
          <span>{e.before ? <><span className="mono">tag:{e.before.tag}</span> <button type="button" className="plainbtn" onClick={onRollBack}>Roll back</button></> : "nothing"}</span>
        </div>
        <div className="kv"><span className="cap">Folder</span><span className="mono" style={{ overflowWrap: "anywhere" }}>{e.folder.split("/").slice(-2).join("/")}</span></div>
        <div className="pad"><button type="button" className="plainbtn" aria-pressed={chosen} onClick={onChoose}>{chosen ? "Chosen for rehearsal" : "Rehearse for it"}</button></div>
      </section>
    </>
  );
}

function MakeEnvironment() {
  const key = useShelfKey();
  const queries = useQueryClient();
  const dialog = useRef<HTMLDialogElement>(null);
  const [name, setName] = useState("");
  const [fed, setFed] = useState("");
  const [earlier, setEarlier] = useState(false);
  const make = useMutation({
    mutationFn: () => send("POST", `shelves/${key}/environments`, { name, fed_from: fed, earlier_first: earlier }),
    onSuccess: async () => {
      dialog.current?.close();
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
    },
  });
  return (
    <>
      <Button variant="outlined" onClick={() => dialog.current?.showModal()}>Make an environment</Button>
      <dialog ref={dialog} aria-label="Make an environment">
        <form onSubmit={(e) => { e.preventDefault(); make.mutate(); }}>
          <h2>Make an environment</h2>
          <label htmlFor="env-name">Name</label>
          <input id="env-name" className="inp" required value={name} onChange={(e) => setName(e.target.value)} />
          <label htmlFor="env-fed">Fed from this branch only (empty: any)</label>
          <input id="env-fed" className="inp" value={fed} onChange={(e) => setFed(e.target.value)} />
          <label><input type="checkbox" checked={earlier} onChange={(e) => setEarlier(e.target.checked)} /> A tag must have run in the environment before it</label>
          {make.isError && <ProblemBox error={make.error} />}
          <div className="acts"><Button onClick={() => dialog.current?.close()}>Cancel</Button><Button type="submit" variant="contained">Make the environment</Button></div>
        </form>
      </dialog>
    </>
  );
}
