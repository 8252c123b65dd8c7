import { Button } from "@mui/material";
import { useInfiniteQuery, useMutation, useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link, useNavigate } from "react-router";
import { saveLarge } from "../../api/client";
import { artifact, artifactHistory, drawing, outline, shelf, summary } from "../../api/queries";
import { address } from "../../api/query";
import { isCaptured, isOfBytes } from "../../marks/kinds";
import { KindIcon } from "../../marks/spines";
import { size, tone, when } from "../../marks/words";
import { Part, Switch, TextAct } from "../../parts/Acts";
import { CopyAct } from "../../parts/Copying";
import { later } from "../../parts/later";
import { useDone } from "../../shell/Done";
import { Page, useShelfKey } from "../../shell/Page";
import { isReadOnly, RefChooser } from "../../shell/RefChooser";
import { Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { Restore } from "../commit/Restore";
import { FollowAct } from "../news/FollowAct";
import { usePending } from "../pending/pending";
import { Upload } from "../shelf/Upload";
import { OutlineView } from "./OutlineView";
import { References } from "./References";
import { TextView } from "./TextView";
import { toolAddress } from "./toolAddress";
import { Versions, VersionTable } from "./Versions";

const VIEWS = {
  graph: "Graph",
  cells: "Cells",
  read: "Read",
  outline: "Outline",
  origins: "Origins",
  uses: "Uses",
  unfolded: "Unfolded",
  text: "Raw text",
  edit: "Edit",
  history: "History",
} as const;
const UNFOLDED = ["app", "tests", "notebook", "archive", "database", "document", "spreadsheet"];
/** Kinds that are changed in programs of their own, and brought here. */
const isEdited = (kind: string, path: string) => !isOfBytes(kind, path) && kind !== "model";
/** Larger tables are shown without bars over their columns. */
const MOST_PROFILED = 32_000_000;
const EditView = later(async () => ({ default: (await import("../edit/EditView")).EditView }), <Loading what="Opening it" />);
const OriginsView = later(
  async () => ({ default: (await import("../origins/OriginsView")).OriginsView }),
  <Loading what="Reading who set what" />,
);
const PictureView = later(
  async () => ({ default: (await import("../picture/PictureView")).PictureView }),
  <Loading what="Reading the picture" />,
);
const UsesView = later(async () => ({ default: (await import("../uses/UsesView")).UsesView }), <Loading what="Reading who uses it" />);
const GraphView = later(async () => ({ default: (await import("./GraphView")).GraphView }), <Loading what="Reading the graph" />);
const UnfoldedView = later(async () => ({ default: (await import("./UnfoldedView")).UnfoldedView }), <Loading what="Unfolding it" />);
const RowsGrid = later(async () => ({ default: (await import("../table/RowsGrid")).RowsGrid }), <Loading what="Reading the table" />);
const DRAWN = ["pipeline", "workflow"];
const NotebookView = later(
  async () => ({ default: (await import("../notebook/NotebookView")).NotebookView }),
  <Loading what="Reading the cells" />,
);
const MarkedView = later(() => import("./MarkedView"), <Loading what="Reading the text" />);
/** Larger ones are read as an outline. */
const MOST_READ = 30_000_000;

/** The view in which an artifact is read rather than taken apart; "" where it has none. */
function reading(kind: string, path: string, size: number): "cells" | "read" | "" {
  if (size > MOST_READ) return "";
  if (kind === "notebook" && path.endsWith(".ipynb")) return "cells";
  return /\.(md|markdown)$/i.test(path) ? "read" : "";
}

export function ArtifactPage() {
  const key = useShelfKey();
  const go = useNavigate();
  const [path] = useParam("path");
  const [at, setAt] = useParam("ref", "main");
  const [version, setVersion] = useParam("version");
  const [asked, setView] = useParam("view");
  const found = useQuery(artifact(key, path, at, version || undefined));
  const info = useQuery(shelf(key));
  const pages = useInfiniteQuery(artifactHistory(key, path, at));
  const versions = pages.data?.pages.flatMap((page) => page.items);
  const drawable = DRAWN.includes(found.data?.kind ?? "");
  const drawn = useQuery({ ...drawing(key, path, at, version || undefined), enabled: drawable });
  useEffect(() => {
    if (drawable) GraphView.ahead();
    // Files of these forms have places of their own, as a rule.
    if (drawable && !/\.(bpmn|xml)$/i.test(path)) void import("../drawing/layers").then((drawing) => drawing.warmUp());
  }, [drawable, path]);
  const hasGraph = (drawn.data?.nodes.length ?? 0) > 0;
  const read = found.data && !found.data.whole ? reading(found.data.kind, path, found.data.size) : "";
  const can = (view: string) => (view !== "graph" || hasGraph) && ((view !== "cells" && view !== "read") || view === read);
  const of = { shelf: key, path, at, version: version || undefined };
  const view = asked && can(asked) ? asked : hasGraph ? "graph" : read || "outline";
  const waiting = drawable && drawn.isPending;
  const parts = useQuery({
    ...outline(key, path, at, version || undefined),
    enabled: (view === "outline" || view === "graph") && (found.data?.size ?? 0) <= MOST_PROFILED,
  });
  // Rows are there before the columns are described; a file that turns out to be no table has an outline of its own.
  const asRows = found.data?.kind === "dataset" && !parts.isError && (!parts.data || parts.data.table !== null);
  const all = useQuery(summary(key, at));
  const { keep, discard, restore, known, problem } = usePending(key);
  const done = useDone();
  const name = found.data?.name ?? path.split("/").pop() ?? "";
  const say = (
    <>
      <i>at</i>
      <RefChooser shelf={key} value={at} label="State shown" onChoose={setAt} />
      <b className="j">{name}</b>
      {version && <i>version {version}</i>}
    </>
  );
  // What lies in place may have changed: a refusal is shown here, and not as a page of its own.
  const loading = useMutation({
    mutationFn: () => saveLarge(`shelves/${key}/artifact/file`, { path, ref: at, version: version || undefined }),
  });
  const removing = useMutation({ mutationFn: () => remove() });
  const remove = async () => {
    const before = (await known()).find((one) => one.branch === at && one.path === path);
    await keep({ path, content: null, branch: at, base: all.data?.commit ?? null });
    const undo = () => (before ? restore({ branch: at, point: before.point }) : discard({ branch: at, paths: [path] }));
    done({ said: `${name} is removed in your draft; a commit makes it so.`, undo });
    void go(`/s/${key}/pending`);
  };
  const a = found.data;
  const editable = Boolean(
    a && !a.whole && isEdited(a.kind, path) && !isReadOnly(at) && !version && info.data && info.data.role !== "reader",
  );
  const newest = versions?.[0]?.version;
  return (
    <Page page="artifacts" title={`${name} at ${at}`} at={at} say={say} current={path}>
      {found.isPending && <Loading what={`Reading ${path}`} />}
      {found.isError && <ProblemBox error={found.error} />}
      {(loading.error ?? removing.error ?? problem) && <ProblemBox error={loading.error ?? removing.error ?? problem} />}
      {a && (
        <>
          <div className="line1">
            <KindIcon kind={a.kind} tone={tone(a.recorded)} />
            <h1 style={{ font: "400 15px/22px var(--sans)" }}>
              <b>{a.kind.charAt(0).toUpperCase() + a.kind.slice(1)}</b>
              {a.whole && ", a folder kept whole"}
              {a.version ? (
                <>
                  ,{" "}
                  <Link to={`/s/${key}/version?${new URLSearchParams({ path, ref: at, version: String(a.version) })}`}>
                    version {a.version}
                  </Link>
                </>
              ) : (
                ", not committed yet"
              )}
              {newest ? ` of ${newest}` : ""}, {size(a.size)}
              {a.in_place && (
                <>
                  , <Link to={`/s/${key}/in-place?${new URLSearchParams({ ref: at })}`}>in place</Link> at{" "}
                  <span className="mono">{a.in_place.split("?")[0]}</span>
                </>
              )}
              . “{a.summary}”, {a.author}, {when(a.recorded)}
            </h1>
            <span className="end">
              <Switch label="Seen as">
                {Object.entries(VIEWS)
                  .filter(
                    ([v]) =>
                      can(v) &&
                      (v !== "unfolded" || (UNFOLDED.includes(a.kind) && !isCaptured(a.kind, path))) &&
                      (v !== "text" || !(a.whole || isOfBytes(a.kind, path))) &&
                      (v !== "edit" || editable) &&
                      (v !== "origins" || a.version !== null) &&
                      (v !== "uses" || (a.version !== null && !version)),
                  )
                  .map(([v, name]) => (
                    <Part key={v} pressed={view === v} onClick={() => setView(v)}>
                      {name}
                    </Part>
                  ))}
              </Switch>
              {(a.version ?? 0) > 1 && (
                <Button
                  variant="outlined"
                  onClick={() =>
                    void go(
                      `/s/${key}/compare?${new URLSearchParams({ path, from: `version:${(a.version ?? 2) - 1}`, to: `version:${a.version}` })}`,
                    )
                  }
                >
                  Compare with previous version
                </Button>
              )}
              {version && newest && Number(version) < newest && info.data && info.data.role !== "reader" && !isReadOnly(at) && (
                <Restore
                  shelf={key}
                  branch={at}
                  from={`version:${version}`}
                  path={path}
                  label="Restore this version"
                  title={`Restore version ${version} of ${name}`}
                  does={`${at} gets ${name} as it was in version ${version}, in a new commit. The later versions stay in the history.`}
                  usual={`Bring ${path} back from version:${version}`}
                />
              )}
              {path.endsWith(".sql") && !version && (
                <Button variant="outlined" onClick={() => void go(`/s/${key}/query?${new URLSearchParams({ saved: path, ref: at })}`)}>
                  Run as a query
                </Button>
              )}
              {a.in_place ? (
                <Button variant="outlined" disabled={loading.isPending} onClick={() => loading.mutate()}>
                  Download
                </Button>
              ) : (
                <Button variant="outlined" href={address(`shelves/${key}/artifact/file`, { path, ref: at, version: version || undefined })}>
                  Download
                </Button>
              )}
              {!isReadOnly(at) && !version && (
                <>
                  {!a.whole &&
                    (all.data ? (
                      <Upload shelf={key} branch={at} commit={all.data.commit} only={path} label="Replace" />
                    ) : (
                      <Button variant="outlined" disabled>
                        Replace
                      </Button>
                    ))}
                  <Button variant="outlined" onClick={() => removing.mutate()} disabled={!all.data || removing.isPending}>
                    Remove
                  </Button>
                </>
              )}
            </span>
          </div>
          <p className="mut" style={{ marginBottom: 8 }}>
            <span className="mono">{a.path}</span> <FollowAct shelf={key} artifact={path} />{" "}
            {!version && (
              <CopyAct text={toolAddress(window.location.host, key, at, path)} label={`of ${name} for data tools`}>
                Copy address
              </CopyAct>
            )}
          </p>
          {view === "graph" && drawn.data && parts.data && (
            <GraphView key={`${at} ${version}`} drawing={drawn.data} outline={parts.data} of={of} />
          )}
          {view === "graph" && parts.isPending && <Loading what="Reading the graph" />}
          {view === "cells" && <NotebookView shelf={key} path={path} at={at} version={version || undefined} />}
          {view === "read" && <MarkedView shelf={key} path={path} at={at} version={version || undefined} />}
          {view === "outline" && a.kind === "picture" && <PictureView shelf={key} path={path} at={version ? `version:${version}` : at} />}
          {view === "outline" && asRows && <RowsGrid of={of} table="" profiles={parts.data?.table?.profiles} />}
          {view === "outline" &&
            !waiting &&
            !asRows &&
            (parts.data ? (
              <OutlineView outline={parts.data} of={of} onText={() => setView("text")} />
            ) : parts.isError ? (
              <ProblemBox error={parts.error} />
            ) : (
              <Loading what="Reading its outline" />
            ))}
          {view === "origins" && <OriginsView shelf={key} path={path} at={at} version={version || undefined} />}
          {view === "uses" && <UsesView shelf={key} path={path} at={at} />}
          {view === "unfolded" && (
            <UnfoldedView shelf={key} path={path} at={at} version={version || undefined} commit={all.data?.commit ?? null} />
          )}
          {view === "text" && <TextView shelf={key} path={path} at={at} version={version} />}
          {view === "edit" && editable && all.data && <EditView shelf={key} path={path} branch={at} base={all.data.commit} />}
          {view === "history" && versions && <VersionTable versions={versions} shelf={key} path={path} at={at} />}
          {view === "history" && pages.hasNextPage && (
            <p className="foot">
              <TextAct onClick={() => void pages.fetchNextPage()}>Show older ones</TextAct>
            </p>
          )}
          {versions && view !== "history" && view !== "edit" && view !== "origins" && view !== "uses" && (
            <div className="under">
              <Versions
                versions={versions}
                total={pages.data?.pages[0]?.total ?? 0}
                now={a.version}
                onChoose={(n) => setVersion(String(n))}
                onAll={() => setView("history")}
              />
              <References shelf={key} path={path} at={at} onAll={() => setView("uses")} />
            </div>
          )}
        </>
      )}
    </Page>
  );
}
