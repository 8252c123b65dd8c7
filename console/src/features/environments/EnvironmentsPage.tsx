import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { type Environment, environments, tags } from "../../api/queries";
import { Page, useShelfKey } from "../../shell/Page";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { useParam, useSetParams } from "../../shell/useRefParam";
import { BesidePanel } from "./BesidePanel";
import { BindingsPanel } from "./BindingsPanel";
import { DriftPanel } from "./DriftPanel";
import { GatesPanel } from "./GatesPanel";
import { MakeEnvironment } from "./MakeEnvironment";
import { MakeTrial } from "./MakeTrial";
import { PANELS, type Panel } from "./panels";
import { usePromotion } from "./promotion";
import { RehearsalPanel } from "./RehearsalPanel";
import { RouteSection } from "./RouteSection";
import { Timeline } from "./Timeline";

export function EnvironmentsPage() {
  const key = useShelfKey();
  const places = useQuery(environments(key));
  const marks = useInfiniteQuery(tags(key));
  const [name] = useParam("env");
  const [tag, setTag] = useParam("tag");
  const [shown, setShown] = useParam("panel");
  const setParams = useSetParams();
  const promotion = usePromotion(key);
  const all = places.data ?? [];
  const waiting = all.find((e) => e.waiting && !e.trial_of);
  const chosen = all.find((e) => e.name === name) ?? waiting ?? all[0];
  const panel: Panel = PANELS.find((p) => p === shown) ?? "rehearsal";
  const newest = marks.data?.pages[0]?.items[0]?.name ?? "";
  const wanted = tag || chosen?.waiting || chosen?.current?.tag || newest;
  const choose = (environment: Environment, next: Panel, rehearsed = "") => {
    const other = environment.name !== chosen?.name;
    if (other) promotion.forget();
    setParams({ env: environment.name, panel: next, tag: rehearsed || (other ? "" : tag) });
  };
  const rehearse = (environment: Environment) => {
    choose(environment, "rehearsal", environment.waiting ?? "");
    if (environment.waiting) promotion.rehearse(environment.name, environment.waiting);
  };
  const routes = [...new Set(all.map((e) => e.route))];
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
          <MakeTrial newest={newest} onMade={promotion.follow} /> <MakeEnvironment />
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
      {routes.map((route) => (
        <RouteSection
          key={route}
          route={route}
          named={routes.length > 1}
          stations={all.filter((e) => e.route === route)}
          chosen={chosen}
          panel={panel}
          rehearsal={promotion.rehearsal.data}
          onChoose={choose}
          onRehearse={rehearse}
          onRollBack={async (environment, reason) => {
            choose(environment, "rehearsal");
            await promotion.rollBack(environment, reason);
          }}
        >
          {chosen && panel === "rehearsal" && (
            <RehearsalPanel
              environment={chosen}
              wanted={wanted}
              promotion={promotion}
              onTag={(next) => {
                promotion.forget();
                setTag(next);
              }}
              onPanel={setShown}
            />
          )}
          {chosen && panel === "drift" && <DriftPanel key={chosen.name} environment={chosen} />}
          {chosen && panel === "bindings" && <BindingsPanel key={chosen.name} environment={chosen} />}
          {chosen && panel === "settings" && <GatesPanel key={chosen.name} environment={chosen} />}
          {chosen && panel === "beside" && <BesidePanel key={chosen.name} environment={chosen} all={all} />}
        </RouteSection>
      ))}
      {all.length > 0 && <Timeline places={all.filter((e) => !e.trial_of)} />}
    </Page>
  );
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
