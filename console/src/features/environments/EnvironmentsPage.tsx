import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ProblemError, send } from "../../api/client";
import { type Environment, environments, type Job, type Rehearsal, tags } from "../../api/queries";
import { TextAct } from "../../parts/Acts";
import { Choice } from "../../parts/Choice";
import { Page, useShelfKey } from "../../shell/Page";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { BesidePanel } from "./BesidePanel";
import { BindingsPanel } from "./BindingsPanel";
import { DriftPanel } from "./DriftPanel";
import { GatesPanel } from "./GatesPanel";
import { JobProgress } from "./JobProgress";
import { MakeEnvironment, MakeTrial } from "./MakeEnvironment";
import { RehearsalView } from "./RehearsalView";
import { RouteLine } from "./RouteLine";
import { GatesInto, Station } from "./Station";
import { Timeline } from "./Timeline";

/** What is shown below the route, for the chosen environment. */
const PANELS = ["rehearsal", "drift", "bindings", "gates", "beside"] as const;
export type Panel = (typeof PANELS)[number];

export function EnvironmentsPage() {
  const key = useShelfKey();
  const places = useQuery(environments(key));
  const marks = useQuery(tags(key));
  const [name, setName] = useParam("env");
  const [tag, setTag] = useParam("tag");
  const [shown, setShown] = useParam("panel");
  const [running, setRunning] = useState<string | null>(null);
  const [atWork, setAtWork] = useState(false);
  const queries = useQueryClient();
  const all = places.data ?? [];
  const waiting = all.find((e) => e.waiting && !e.trial_of);
  const chosen = all.find((e) => e.name === name) ?? waiting ?? all[0];
  const panel: Panel = PANELS.find((p) => p === shown) ?? "rehearsal";
  const wanted = tag || chosen?.waiting || chosen?.current?.tag || marks.data?.[0]?.name || "";
  const rehearsal = useMutation({
    mutationFn: () => send<Rehearsal>("POST", `shelves/${key}/environments/${chosen?.name}/rehearse`, { tag: wanted }),
  });
  const start = useMutation({
    mutationFn: (act: { path: string; body: object }) => send<Job>("POST", `shelves/${key}/environments/${act.path}`, act.body),
    onSuccess: (job) => {
      setRunning(job.job);
      setAtWork(true);
    },
  });
  const done = async () => {
    setAtWork(false);
    await queries.invalidateQueries({ queryKey: ["shelf", key] });
    rehearsal.reset();
  };
  const choose = (environment: Environment, next: Panel) => {
    if (environment.name !== chosen?.name) rehearsal.reset();
    setName(environment.name);
    setShown(next);
  };
  const routes = [...new Set(all.map((e) => e.route))];
  const known = (e: Environment) => (rehearsal.data?.environment === e.name ? rehearsal.data : undefined);
  return (
    <Page
      page="environments"
      title="Environments"
      at="main"
      say={
        <>
          <i className="j">the route</i>{" "}
          {all
            .filter((e) => e.route === chosen?.route)
            .map((e) => e.name)
            .join(" → ")}
        </>
      }
    >
      <div className="line1">
        <h1>{headline(all, waiting)}</h1>
        <span className="end">
          <MakeTrial tags={marks.data ?? []} onMade={(job) => setRunning(job)} /> <MakeEnvironment />
        </span>
      </div>
      {places.isPending && <Loading what="Reading the environments" />}
      {places.isError && <ProblemBox error={places.error} />}
      {places.data?.length === 0 && (
        <Empty>
          An environment is where tagged versions are put: development, test, production. Make the first one; its place is a folder or a
          platform.
        </Empty>
      )}
      {routes.map((route) => {
        const stations = all.filter((e) => e.route === route);
        return (
          <section key={route} className="routeset" aria-label={`Route ${route}`}>
            {routes.length > 1 && <h2 className="cap">route {route}</h2>}
            <div className="route" tabIndex={0} role="region" aria-label={`Stations of ${route}`}>
              {route !== "trial" && <RouteLine stations={stations} rehearsal={rehearsal.data} />}
              <div className={`halts ${route === "trial" ? "loose" : ""}`}>
                {stations.map((e, i) => (
                  <div key={e.name} className="halt">
                    {i > 0 && route !== "trial" && <GatesInto environment={e} known={known(e)} />}
                    <Station
                      shelf={key}
                      environment={e}
                      first={i === 0}
                      chosen={e === chosen}
                      panel={panel}
                      onChoose={(next) => choose(e, next)}
                      onRollBack={(overwrite) =>
                        start.mutate({
                          path: `${e.name}/roll-back`,
                          body: { reason: "rolled back from the console", overwrite_drift: overwrite },
                        })
                      }
                    />
                  </div>
                ))}
              </div>
            </div>
          </section>
        );
      })}
      {start.isError && <ProblemBox error={start.error} />}
      {start.isError && losses(start.error).length > 0 && start.variables && (
        <p className="pad">
          <TextAct
            onClick={() => start.mutate({ path: start.variables.path, body: { ...start.variables.body, lose: losses(start.error) } })}
          >
            Lose {losses(start.error).join(", ")}, and go on
          </TextAct>
        </p>
      )}
      {running && <JobProgress key={running} uid={running} onDone={() => void done()} />}
      {chosen && panel === "rehearsal" && (
        <>
          <div className="line1" style={{ marginTop: 12 }}>
            <Choice
              id="tag-to-put"
              label={<>Tag for {chosen.name}</>}
              value={wanted}
              onChange={(e) => {
                setTag(e.target.value);
                rehearsal.reset();
              }}
            >
              {marks.data?.map((t) => (
                <option key={t.name} value={t.name}>
                  tag:{t.name}
                </option>
              ))}
            </Choice>
            <Button
              variant={rehearsal.data ? "outlined" : "contained"}
              disabled={!wanted || rehearsal.isPending}
              onClick={() => rehearsal.mutate()}
            >
              {rehearsal.data ? "Rehearse again" : "Rehearse"}
            </Button>
            {rehearsal.isPending && (
              <span className="sec" role="status">
                Rehearsing; nothing is touched …
              </span>
            )}
          </div>
          {rehearsal.isError && <ProblemBox error={rehearsal.error} />}
          {rehearsal.data && (
            <RehearsalView
              rehearsal={rehearsal.data}
              busy={start.isPending || atWork}
              onAgain={() => rehearsal.mutate()}
              onPanel={(next) => setShown(next)}
              onPromote={(said) => start.mutate({ path: `${chosen.name}/promote`, body: { tag: wanted, ...said } })}
            />
          )}
        </>
      )}
      {chosen && panel === "drift" && <DriftPanel key={chosen.name} environment={chosen} />}
      {chosen && panel === "bindings" && <BindingsPanel key={chosen.name} environment={chosen} />}
      {chosen && panel === "gates" && <GatesPanel key={chosen.name} environment={chosen} />}
      {chosen && panel === "beside" && <BesidePanel key={chosen.name} environment={chosen} all={all} />}
      {all.length > 0 && <Timeline places={all.filter((e) => !e.trial_of)} />}
    </Page>
  );
}

/** The names of what would be gone for good, where that is why a promotion was refused. */
function losses(error: Error): string[] {
  const problem = error instanceof ProblemError ? (error.problem as { code?: string; lost?: string[] }) : {};
  return problem.code === "gate.loss" ? (problem.lost ?? []) : [];
}

function headline(all: Environment[], waiting: Environment | undefined) {
  const drifted = all.filter((e) => e.drift.length > 0);
  if (waiting)
    return (
      <>
        Next for {waiting.name}: <b style={{ color: "var(--accent)" }}>tag:{waiting.waiting}</b>
        {drifted.length > 0 ? `; changed directly: ${drifted.map((e) => e.name).join(", ")}` : ""}.
      </>
    );
  if (drifted.length > 0) return <>Changed directly: {drifted.map((e) => e.name).join(", ")}.</>;
  return all.length ? "Every environment has its newest tag." : "Environments";
}
