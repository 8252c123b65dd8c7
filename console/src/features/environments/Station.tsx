import { Button } from "@mui/material";
import { save } from "../../api/client";
import type { Environment, Rehearsal } from "../../api/queries";
import { Mark, Tick } from "../../marks/Mark";
import { when } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { Ask } from "../../parts/Ask";
import { useShelfKey } from "../../shell/Page";
import type { Panel } from "./panels";
import { gateWords } from "./words";

interface StationProps {
  environment: Environment;
  /** at the start of its route: there is no room before it for its gates */
  first: boolean;
  chosen: boolean;
  panel: Panel;
  onChoose: (panel: Panel) => void;
  onRehearse: () => void;
  onRollBack: (reason: string) => Promise<unknown>;
}

export function Station({ environment: e, first, chosen, panel, onChoose, onRehearse, onRollBack }: StationProps) {
  const shelf = useShelfKey();
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
                  <span className="mono">tag:{e.before.tag}</span> <RollBack environment={e} onRollBack={onRollBack} />
                </>
              ) : (
                "nothing"
              )}
            </dd>
          </>
        )}
      </dl>
      <div className="pad">
        <Button size="small" variant={e.waiting ? "contained" : "outlined"} onClick={onRehearse}>
          {e.waiting ? `Rehearse tag:${e.waiting}` : "Rehearse a tag"}
        </Button>
        <TextAct aria-pressed={pressed("settings")} onClick={() => onChoose("settings")}>
          Settings
        </TextAct>{" "}
        <TextAct aria-pressed={pressed("beside")} onClick={() => onChoose("beside")}>
          Compare
        </TextAct>
      </div>
    </section>
  );
}

function RollBack({ environment: e, onRollBack }: Pick<StationProps, "environment" | "onRollBack">) {
  return (
    <Ask
      label="Roll back"
      aria-label={`Roll back ${e.name}`}
      title={`Roll ${e.name} back to tag:${e.before?.tag}`}
      does={
        <>
          Puts <b className="mono">tag:{e.before?.tag}</b> there again in place of <b className="mono">tag:{e.current?.tag}</b>, as a
          deployment of its own.
          {e.drift.length > 0 && (
            <>
              {" "}
              What was changed there directly is overwritten:{" "}
              {e.drift
                .slice(0, 5)
                .map((d) => d.name)
                .join(", ")}
              {e.drift.length > 5 ? ` and ${e.drift.length - 5} more` : ""}.
            </>
          )}
        </>
      }
      act="Roll back now"
      reason
      onAct={onRollBack}
    />
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
