import { useState } from "react";
import { save } from "../../api/client";
import type { Environment, Rehearsal } from "../../api/queries";
import { Mark, Tick } from "../../marks/Mark";
import { when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import type { Panel } from "./EnvironmentsPage";
import { gateWords } from "./words";

interface StationProps {
  shelf: string;
  environment: Environment;
  /** at the start of its route: there is no room before it for its gates */
  first: boolean;
  chosen: boolean;
  panel: Panel;
  onChoose: (panel: Panel) => void;
  onRollBack: (overwrite: boolean) => void;
}

export function Station({ shelf, environment: e, first, chosen, panel, onChoose, onRollBack }: StationProps) {
  const [asks, setAsks] = useState(false);
  const pressed = (p: Panel) => chosen && panel === p;
  return (
    <section className={`sheet stn ${chosen ? "" : "quiet"}`} aria-label={`Environment ${e.name}`}>
      <header>
        <h2 className="h3">{e.name}</h2>
        <span className="cap">
          {e.destination}, fed from {e.fed_from || "any branch"}
        </span>
      </header>
      <div className="run">
        <span className="mono">{e.current ? `tag:${e.current.tag}` : "nothing yet"}</span>
        <span className="sec sm">
          {e.current ? `since ${when(e.current.ended)}, by ${e.current.who}` : e.note || "no deployment"}
          {e.current && (
            <>
              {" "}
              <TextAct onClick={() => save(`shelves/${shelf}/environments/${e.name}/deployments/${e.current?.number ?? 0}/report`)}>
                Report
              </TextAct>
            </>
          )}
        </span>
      </div>
      <dl className="kvs">
        <dt>Next</dt>
        <dd>{e.waiting ? <b className="mono">tag:{e.waiting}</b> : "nothing"}</dd>
        <dt>Drift</dt>
        <dd>
          <DriftWord environment={e} />{" "}
          <TextAct aria-pressed={pressed("drift")} onClick={() => onChoose("drift")}>
            {e.drift.length ? "See what" : "Check now"}
          </TextAct>
        </dd>
        <dt>Bindings</dt>
        <dd>
          {e.bindings.declared > e.bindings.set ? (
            <b>
              <Tick met={false} /> {e.bindings.set} of {e.bindings.declared}
            </b>
          ) : e.bindings.declared ? (
            `${e.bindings.set} of ${e.bindings.declared}`
          ) : (
            "none"
          )}{" "}
          <TextAct aria-pressed={pressed("bindings")} onClick={() => onChoose("bindings")}>
            Values
          </TextAct>
        </dd>
        {first && gateWords(e).length > 0 && (
          <>
            <dt>Gates</dt>
            <dd>{gateWords(e).join(", ")}</dd>
          </>
        )}
        {e.expires && (
          <>
            <dt>Trial</dt>
            <dd>
              of <span className="mono">tag:{e.trial_of}</span>, ends {when(e.expires)}
            </dd>
          </>
        )}
        {!e.trial_of && (
          <>
            <dt>Previous</dt>
            <dd>
              {e.before ? (
                <>
                  <span className="mono">tag:{e.before.tag}</span> <TextAct onClick={() => setAsks(true)}>Roll back</TextAct>
                </>
              ) : (
                "nothing"
              )}
            </dd>
          </>
        )}
      </dl>
      {asks && (
        <div className="pad" role="group" aria-label={`Roll ${e.name} back`}>
          <p className="sm">
            Roll {e.name} back to <b className="mono">tag:{e.before?.tag}</b>?
            {e.drift.length ? ` ${e.drift.length} changed there would be overwritten.` : ""}
          </p>
          <TextAct
            onClick={() => {
              setAsks(false);
              onRollBack(e.drift.length > 0);
            }}
          >
            Roll back now
          </TextAct>{" "}
          <TextAct onClick={() => setAsks(false)}>Cancel</TextAct>
        </div>
      )}
      <div className="pad">
        <TextAct aria-pressed={pressed("rehearsal")} onClick={() => onChoose("rehearsal")}>
          {pressed("rehearsal") ? "Chosen for rehearsal" : "Rehearse here"}
        </TextAct>{" "}
        <TextAct aria-pressed={pressed("gates")} onClick={() => onChoose("gates")}>
          Settings
        </TextAct>{" "}
        <TextAct aria-pressed={pressed("beside")} onClick={() => onChoose("beside")}>
          Compare
        </TextAct>
      </div>
    </section>
  );
}

function DriftWord({ environment: e }: { environment: Environment }) {
  if (e.drift_problem)
    return (
      <b>
        <Tick met={false} /> out of reach
      </b>
    );
  if (e.drift.length)
    return (
      <b>
        <Mark action="changed" /> {e.drift.length} changed there
      </b>
    );
  return <>{e.drift_checked ? `none, ${when(e.drift_checked)}` : "not checked yet"}</>;
}

/** The gates into an environment: what it asks for, and once rehearsed, what is met. */
export function GatesInto({ environment: e, known }: { environment: Environment; known?: Rehearsal }) {
  const asked = gateWords(e);
  return (
    <div className="gate">
      <span className="cap">Gates into {e.name}</span>
      <ul>
        {known
          ? known.gates.map((g) => (
              <li key={g.gate} className={g.met ? "" : "no"}>
                <Tick met={g.met} />
                <span>
                  <b>{g.gate}</b>
                  <br />
                  <span className="sec">{g.message.split(": everyshelf")[0]?.split(";")[0]}</span>
                </span>
              </li>
            ))
          : asked.map((g) => <li key={g}>{g}</li>)}
        {asked.length === 0 && <li className="mut">none</li>}
      </ul>
    </div>
  );
}
