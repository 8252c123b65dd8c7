import { Button } from "@mui/material";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { answer, api } from "../../api/client";
import { KindIcon } from "../../marks/spines";
import { count, fileName } from "../../marks/words";
import { RowAct, TextAct } from "../../parts/Acts";
import { Field } from "../../parts/Field";
import { Page, useShelfKey } from "../../shell/Page";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { asText, type Conflict, type MergeDetail, mergeDetail, type Place, places, type Take, takenOf, written } from "./model";
import { Result } from "./Result";
import { Slip } from "./Slip";

export function SettlePage() {
  const key = useShelfKey();
  const id = useParams().merge ?? "";
  const found = useQuery(mergeDetail(key, id));
  const target = found.data?.target ?? "main";
  const say = found.data ? (
    <>
      <i>merging</i> <b>{found.data.source}</b> <i>into</i> <b>{target}</b>
    </>
  ) : (
    <i className="j">a merge</i>
  );
  return (
    <Page page="branches" title="Settling a merge" at={target} say={say}>
      {found.isPending && <Loading what="Putting both sides together" />}
      {found.isError && <ProblemBox error={found.error} />}
      {found.data && (found.data.state === "open" ? <Settling detail={found.data} /> : <Done detail={found.data} />)}
    </Page>
  );
}

function Done({ detail }: { detail: MergeDetail }) {
  const key = useShelfKey();
  return (
    <Empty>
      This merge of {detail.source} into {detail.target} is {detail.state}.{" "}
      {detail.commit && <Link to={`/s/${key}/history?ref=${encodeURIComponent(detail.target)}`}>See the history of {detail.target}</Link>}
    </Empty>
  );
}

function idOf(place: Place): string {
  return `${place.artifact.path} ${place.conflict.id}`;
}

function Settling({ detail }: { detail: MergeDetail }) {
  const key = useShelfKey();
  const queries = useQueryClient();
  const all = places(detail);
  const [chosen, setChosen] = useState("");
  const current = all.find((p) => idOf(p) === chosen) ?? all.find((p) => !p.conflict.decision) ?? all[0];
  const settle = useMutation({
    mutationFn: (decisions: object[]) =>
      answer(
        api.POST("/shelves/{shelf}/merges/{uid}/decisions", { params: { path: { shelf: key, uid: detail.id } }, body: { decisions } }),
      ),
    onSuccess: (answer) => queries.setQueryData(mergeDetail(key, detail.id).queryKey, answer),
  });
  function next(answer: MergeDetail) {
    const left = places(answer).find((p) => !p.conflict.decision);
    if (left) setChosen(idOf(left));
  }
  function decide(take: Take | null, value?: unknown) {
    if (!current) return;
    settle.mutate([{ path: current.artifact.path, conflict: current.conflict.id, take, value: value ?? null }], {
      onSuccess: next,
    });
  }
  useEffect(() => {
    function press(event: KeyboardEvent) {
      const target = event.target as HTMLElement;
      if (target.closest("input, textarea, [contenteditable]") || event.metaKey || event.ctrlKey || event.altKey) return;
      const take = ({ "1": "target", "2": "source", "3": "both" } as const)[event.key as "1" | "2" | "3"];
      if (take && current?.conflict.options.includes(take)) decide(take);
      if (event.key === "n") next(detail);
    }
    document.addEventListener("keydown", press);
    return () => document.removeEventListener("keydown", press);
  });
  const settled = all.filter((p) => p.conflict.decision).length;
  const combined = detail.artifacts.reduce((sum, a) => sum + a.combined, 0);
  return (
    <>
      <div className="line1 settletop">
        <div>
          <h1>{current ? headline(current.conflict) : "Nothing is left to settle."}</h1>
          <p className="sec">
            {combined > 0 && `${count(combined, "change")} merged automatically. `}
            {notes(detail)}
          </p>
        </div>
        <Progress settled={settled} all={all} current={current} />
      </div>
      {settle.isError && <ProblemBox error={settle.error} />}
      <div className="settle">
        <Left detail={detail} current={current} choose={setChosen} all={(take) => settle.mutate([{ take }])} />
        {current && <Decision key={idOf(current)} place={current} detail={detail} decide={decide} busy={settle.isPending} />}
      </div>
      <Foot detail={detail} open={detail.open} />
    </>
  );
}

/** What the conflict is about; what the sides say stands below. */
function headline(conflict: Conflict): React.ReactNode {
  if (conflict.field === null || conflict.target === undefined || conflict.source === undefined)
    return `${conflict.why.charAt(0).toUpperCase()}${conflict.why.slice(1)}.`;
  return (
    <>
      Both sides changed {conflict.field} of {conflict.type} <b>{conflict.label}</b>.
    </>
  );
}

function notes(detail: MergeDetail): string {
  return detail.artifacts
    .flatMap((a) => a.notes.map((n) => `${fileName(a.path)}: ${n}.`))
    .slice(0, 3)
    .join(" ");
}

function Progress({ settled, all, current }: { settled: number; all: Place[]; current?: Place }) {
  const artifacts = new Set(all.map((p) => p.artifact.path)).size;
  return (
    <div className="progress" role="status">
      <div className="cap">
        <span>
          <b>
            {settled} of {all.length}
          </b>{" "}
          settled
        </span>
        <span>{count(artifacts, "artifact")}</span>
      </div>
      <div className="bars" aria-hidden="true">
        {all.slice(0, 24).map((p) => (
          <i key={idOf(p)} className={p.conflict.decision ? "f" : current && idOf(p) === idOf(current) ? "c" : ""} />
        ))}
      </div>
      <div className="cap">Saved on the server as you go</div>
    </div>
  );
}

interface LeftProps {
  detail: MergeDetail;
  current?: Place;
  choose: (id: string) => void;
  all: (take: Take) => void;
}

function Left({ detail, current, choose, all }: LeftProps) {
  const shown = detail.artifacts.filter((a) => a.conflicts.length > 0);
  return (
    <section className="sheet left" aria-label="To settle">
      <div className="ph">
        <h2 className="h3">To settle</h2>
        <span className="r cap">
          <kbd>n</kbd> next open
        </span>
      </div>
      <div className="places">
        {shown.map((artifact) => (
          <div key={artifact.path}>
            <div className="ah">
              <KindIcon kind={artifact.kind || "opaque"} />
              <b title={artifact.path}>{fileName(artifact.path)}</b>
              <span className="cap">
                {artifact.conflicts.filter((c) => c.decision).length} of {artifact.conflicts.length} settled
              </span>
            </div>
            {artifact.conflicts.map((conflict) => {
              const place = { artifact, conflict: conflict as Conflict };
              const on = current !== undefined && idOf(place) === idOf(current);
              return (
                <RowAct key={conflict.id} className={on ? "ci on" : "ci"} aria-current={on} onClick={() => choose(idOf(place))}>
                  <span className={conflict.decision ? "st ok" : on ? "st cur" : "st"} aria-hidden="true" />
                  <span className="what">
                    <span>{conflict.label}</span>
                    <span className="xs mut">{conflict.field ?? conflict.type}</span>
                  </span>
                  <span className="cap">{conflict.decision ? takenOf(detail, conflict.decision.take) : on ? "now" : "open"}</span>
                </RowAct>
              );
            })}
          </div>
        ))}
      </div>
      {detail.open > 0 && (
        <div className="rest">
          <div className="cap">For the {detail.open} still open</div>
          <Button variant="outlined" onClick={() => all("target")}>
            Take {detail.target} for all
          </Button>
          <Button variant="outlined" onClick={() => all("source")}>
            Take {detail.source} for all
          </Button>
          <p className="cap">
            A program of your own can settle it, too: <span className="mono">everyshelf settle</span> at the command line.
          </p>
        </div>
      )}
    </section>
  );
}

interface DecisionProps {
  place: Place;
  detail: MergeDetail;
  decide: (take: Take | null, value?: unknown) => void;
  busy: boolean;
}

function Decision({ place, detail, decide, busy }: DecisionProps) {
  const { conflict, artifact } = place;
  const taken = conflict.decision?.take;
  const like = conflict.target ?? conflict.source ?? conflict.base;
  const [editing, setEditing] = useState(taken === "edited");
  const [text, setText] = useState(asText(taken === "edited" ? conflict.decision?.value : (conflict.target ?? conflict.source)));
  const can = (take: Take) => conflict.options.includes(take);
  return (
    <section className="mid" aria-label={conflict.why}>
      <div className="three">
        <Slip title="Base" where="" value={conflict.base} />
        <Slip title={detail.target} where="target" value={conflict.target} base={conflict.base}>
          <Chosen
            on={taken === "target"}
            disabled={busy || !can("target")}
            onClick={() => decide("target")}
            sign="1"
          >{`Take ${detail.target}`}</Chosen>
        </Slip>
        <Slip title={detail.source} where="source" value={conflict.source} base={conflict.base}>
          <Chosen
            on={taken === "source"}
            disabled={busy || !can("source")}
            onClick={() => decide("source")}
            sign="2"
          >{`Take ${detail.source}`}</Chosen>
        </Slip>
      </div>
      <div className="choose sheet">
        {can("both") && (
          <RowAct
            className={taken === "both" ? "opt on" : "opt"}
            aria-pressed={taken === "both"}
            disabled={busy}
            onClick={() => decide("both")}
          >
            <span className="rb" aria-hidden="true" />
            <span>
              <b>Both</b> <kbd>3</kbd>
              <span className="sm sec">
                Keep what {detail.target} has, then what {detail.source} has.
              </span>
            </span>
          </RowAct>
        )}
        {can("edited") && (
          <RowAct
            className={taken === "edited" ? "opt on" : "opt"}
            aria-pressed={taken === "edited"}
            aria-expanded={editing}
            onClick={() => setEditing(!editing)}
          >
            <span className="rb" aria-hidden="true" />
            <span>
              <b>Edited</b>
              <span className="sm sec">Write it yourself, starting from {detail.target}.</span>
            </span>
          </RowAct>
        )}
        {!can("both") && !can("edited") && <p className="pad sec">Only one side can be taken as a whole. {artifact.notes.join(" ")}</p>}
      </div>
      {editing && (
        <form
          className="sheet pad"
          onSubmit={(e) => {
            e.preventDefault();
            decide("edited", written(text, like));
          }}
        >
          <Field
            id="edited"
            label={<>The value of {conflict.field ?? conflict.label}</>}
            mono
            rows={Math.min(14, Math.max(2, text.split("\n").length + 1))}
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
          <div className="line1">
            <Button type="submit" variant="contained" disabled={busy}>
              Settle with this
            </Button>
          </div>
        </form>
      )}
      {conflict.decision && (
        <p className="sec">
          Settled: <b>{takenOf(detail, conflict.decision.take)}</b>
          {conflict.decision.by && `, by ${conflict.decision.by}`}. <TextAct onClick={() => decide(null)}>Undo this decision</TextAct>
        </p>
      )}
      <Result artifact={artifact} merge={detail} />
      <p className="cap mono">
        {artifact.path}
        {conflict.id}
      </p>
    </section>
  );
}

function Chosen({
  on,
  sign,
  children,
  ...rest
}: { on: boolean; sign: string; children: string } & React.ButtonHTMLAttributes<HTMLButtonElement>) {
  return (
    <RowAct className={on ? "ch on" : "ch"} aria-pressed={on} {...rest}>
      <span className="rb" aria-hidden="true" />
      {children} <kbd aria-hidden="true">{sign}</kbd>
    </RowAct>
  );
}

function Foot({ detail, open }: { detail: MergeDetail; open: number }) {
  const key = useShelfKey();
  const queries = useQueryClient();
  const go = useNavigate();
  const finish = useMutation({
    mutationFn: () => answer(api.POST("/shelves/{shelf}/merges/{uid}/finish", { params: { path: { shelf: key, uid: detail.id } } })),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
      await go(`/s/${key}/history?ref=${encodeURIComponent(detail.target)}`);
    },
  });
  const abandon = useMutation({
    mutationFn: () => answer(api.DELETE("/shelves/{shelf}/merges/{uid}", { params: { path: { shelf: key, uid: detail.id } } })),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["shelf", key] });
      await go(`/s/${key}/branches`);
    },
  });
  return (
    <>
      {(finish.isError || abandon.isError) && <ProblemBox error={finish.error ?? abandon.error} />}
      <div className="settlefoot">
        <span className="sec sm">
          Merging <b>{detail.source}</b> into <b>{detail.target}</b>. Nothing is written to {detail.target} until you commit.
        </span>
        <span className="end">
          <Button onClick={() => abandon.mutate()}>Abandon merge</Button>
          <Button component={Link} to={`/s/${key}/branches`}>
            Leave for later
          </Button>
          <Button variant="contained" disabled={open > 0 || finish.isPending} onClick={() => finish.mutate()}>
            {open > 0 ? `Commit merge, ${open} open` : "Commit merge"}
          </Button>
        </span>
      </div>
    </>
  );
}
