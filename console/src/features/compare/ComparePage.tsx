import { Button } from "@mui/material";
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { comparison, shelf, tags } from "../../api/queries";
import { count, fileName } from "../../marks/words";
import { TextAct } from "../../parts/Acts";
import { later } from "../../parts/later";
import { Page, useShelfKey } from "../../shell/Page";
import { RefChooser } from "../../shell/RefChooser";
import { SaveReport } from "../../shell/SaveReport";
import { Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { EffectFilter, UNJUDGED } from "./EffectFilter";
import { StateTable } from "./StateTable";

const ArtifactFindings = later(
  async () => ({ default: (await import("./ArtifactFindings")).ArtifactFindings }),
  <Loading what="Reading what changed" />,
);

export function ComparePage() {
  const key = useShelfKey();
  const info = useQuery(shelf(key));
  const marks = useInfiniteQuery(tags(key));
  const main = info.data?.main_branch ?? "main";
  const latest = marks.data?.pages[0]?.items[0];
  const newest = latest ? `tag:${latest.name}` : main;
  const [from, setFrom] = useParam("from");
  const [to, setTo] = useParam("to", main);
  const [path, setPath] = useParam("path");
  const before = from || newest;
  const single = path ? fileName(path) : "";
  const state = before.startsWith("version:") || to.startsWith("version:");
  const say = (
    <>
      {single && <b className="j">{single}</b>}
      <i>from</i>
      <RefChooser shelf={key} value={before} label="Before" onChoose={setFrom} />
      <i>to</i>
      <RefChooser shelf={key} value={to} label="After" onChoose={setTo} />
    </>
  );
  return (
    <Page page="compare" title={`${single || "Comparison"}, ${before} to ${to}`} at={state ? main : to} say={say} current={path}>
      {path ? (
        <ArtifactFindings shelf={key} path={path} from={before} to={to} onAll={state ? undefined : () => setPath("")} />
      ) : (
        <States
          before={before}
          to={to}
          onOpen={setPath}
          onFrom={setFrom}
          onSwap={() => {
            setFrom(to);
            setTo(before);
          }}
        />
      )}
    </Page>
  );
}

function isUnjudged(artifact: { judged: boolean; pending: boolean }): boolean {
  return !artifact.judged && !artifact.pending;
}

function States({
  before,
  to,
  onOpen,
  onFrom,
  onSwap,
}: {
  before: string;
  to: string;
  onOpen: (path: string) => void;
  onFrom: (ref: string) => void;
  onSwap: () => void;
}) {
  const key = useShelfKey();
  const [effect, setEffect] = useParam("effect");
  const found = useQuery(comparison(key, before, to));
  // biome-ignore lint/correctness/useExhaustiveDependencies: the list says when it runs again
  useEffect(() => {
    window.scrollTo(0, 0); // in braces: newer browsers return a promise here, which is not a clean-up function
  }, [before, to]);
  if (found.isPending) return <Loading what="Comparing" />;
  if (found.isError) return <ProblemBox error={found.error} />;
  const c = found.data;
  return (
    <>
      <h1 aria-live="polite">{c.sentence}</h1>
      <div className="line1">
        <EffectFilter effects={c.effects} unjudged={c.artifacts.filter(isUnjudged).length} value={effect} onChange={setEffect} />
        <span className="sec sm">
          {count(c.same ?? 0, "artifact")} the same
          {c.pending ? `; ${count(c.pending, "artifact")} still being compared` : ""}
        </span>
        <span className="end">
          <Button variant="outlined" onClick={onSwap}>
            Swap sides
          </Button>
          <SaveReport report={`shelves/${key}/compare/report`} query={{ from: before, to }} waiting={c.pending > 0} />
        </span>
      </div>
      {c.parted && (
        <p className="sec sm">
          Compared from where {to} parted from {before}, at <span className="mono">{c.parted.commit?.slice(0, 8)}</span>.{" "}
          <TextAct onClick={() => onFrom(`commit:${c.parted?.head?.slice(0, 12)}`)}>Compare with {before} as it is now</TextAct>
        </p>
      )}
      <StateTable
        artifacts={c.artifacts.filter((a) => !effect || (effect === UNJUDGED ? isUnjudged(a) : (a.effects[effect] ?? 0) > 0))}
        onOpen={onOpen}
      />
    </>
  );
}
