/** One artifact compared: sentence, findings by part, before and after, down to raw text side by side. */

import { Button } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { type ArtifactComparison, artifactComparison, compareDrawing, type Finding, text } from "../../api/queries";
import { isOfBytes } from "../../marks/kinds";
import { Effect, Mark } from "../../marks/Mark";
import { count, effectsPhrase, group } from "../../marks/words";
import { Part, RowAct, Switch, TextAct } from "../../parts/Acts";
import { later } from "../../parts/later";
import { SaveReport } from "../../shell/SaveReport";
import { Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { RemarkOnPart } from "../proposals/RemarkOnPart";
import { RowBars } from "../table/RowBars";
import { EffectFilter, UNJUDGED } from "./EffectFilter";
import { FindingDetail } from "./FindingDetail";
import { byType, plural, told } from "./model";
import { PendingJob } from "./PendingJob";
import { Inline } from "./Worded";

interface Props {
  shelf: string;
  path: string;
  from: string;
  to: string;
  onAll?: () => void;
}
const DrawingView = later(
  async () => ({ default: (await import("../drawing/DrawingView")).DrawingView }),
  <Loading what="Reading what changed" />,
);
const ModelComparison = later(
  async () => ({ default: (await import("../model/ModelComparison")).ModelComparison }),
  <Loading what="Reading what changed" />,
);
const PictureComparison = later(
  async () => ({ default: (await import("../picture/PictureComparison")).PictureComparison }),
  <Loading what="Reading what changed" />,
);
const SheetComparison = later(
  async () => ({ default: (await import("../sheet/SheetComparison")).SheetComparison }),
  <Loading what="Reading what changed" />,
);
const DatabaseComparison = later(
  async () => ({ default: (await import("../table/DatabaseComparison")).DatabaseComparison }),
  <Loading what="Reading what changed" />,
);
const TableComparison = later(
  async () => ({ default: (await import("../table/TableComparison")).TableComparison }),
  <Loading what="Reading what changed" />,
);
const TwoTexts = later(() => import("../text/SideBySide"), <Loading what="Comparing both texts" />);
const MOST = 1000;
const DRAWN = ["pipeline", "workflow"];
/** Kinds whose bytes are no text to look at. */

export function ArtifactFindings({ shelf, path, from, to, onAll }: Props) {
  const [seen, setSeen] = useParam("seen", "parts");
  const [effect, setEffect] = useParam("effect");
  const [cosmetic, setCosmetic] = useParam("cosmetic");
  const found = useQuery(artifactComparison(shelf, path, from, to));
  if (found.isPending) return <Loading what={`Comparing ${path}`} />;
  if (found.isError) return <ProblemBox error={found.error} />;
  const c = found.data;
  if (c.pending && c.job) return <PendingJob uid={c.job} onDone={() => void found.refetch()} />;
  const isWhole = Boolean((c.after ?? c.before)?.whole);
  const table = c.table ?? null;
  const hidden = c.effects.cosmetic ?? 0;
  const shown = c.findings.filter((f) =>
    effect ? f.effect === (effect === UNJUDGED ? null : effect) : cosmetic || f.effect !== "cosmetic",
  );
  const phrase = effectsPhrase(c.effects, c.judged);
  return (
    <>
      <h1>
        {c.equal ? "Nothing changed" : sentenceCase(c.headline)}; <b style={{ color: "var(--accent)" }}>{phrase}</b>.
      </h1>
      {c.note && !c.headline.startsWith(c.note) && <p className="sec">{sentenceCase(c.note)}.</p>}
      <div className="line1">
        <EffectFilter
          effects={c.effects}
          unjudged={c.findings.filter((f) => f.effect === null).length}
          value={effect}
          onChange={setEffect}
        />
        {!isWhole && c.kind !== "model" && !isOfBytes(c.kind, path) && (
          <Switch label="Seen as">
            <Part pressed={seen === "parts"} onClick={() => setSeen("parts")}>
              Parts
            </Part>
            <Part pressed={seen === "text"} onClick={() => setSeen("text")}>
              Raw text
            </Part>
          </Switch>
        )}
        {hidden > 0 && !effect && (
          <TextAct onClick={() => setCosmetic(cosmetic ? "" : "shown")}>
            {cosmetic ? "Hide" : "Show"} {count(hidden, "cosmetic finding")}
          </TextAct>
        )}
        {table && !table.unrelated && <RowBars table={table} />}
        <span className="end">
          {onAll && (
            <Button variant="outlined" onClick={onAll}>
              All artifacts
            </Button>
          )}
          <SaveReport report={`shelves/${shelf}/compare/report`} query={{ from, to, path }} />
        </span>
      </div>
      {seen === "text" ? (
        <SideBySide shelf={shelf} path={path} from={from} to={to} />
      ) : table && !table.unrelated ? (
        <TableComparison table={table} findings={shown} shelf={shelf} path={path} from={from} to={to} />
      ) : c.kind === "spreadsheet" && c.tables && Object.keys(c.tables).length ? (
        <SheetComparison sheets={c.tables} findings={shown} />
      ) : c.model ? (
        <ModelComparison model={c.model} findings={shown} />
      ) : c.picture ? (
        <PictureComparison picture={c.picture} findings={shown} shelf={shelf} path={path} from={from} to={to} />
      ) : c.tables && Object.keys(c.tables).length ? (
        <DatabaseComparison tables={c.tables} findings={shown} shelf={shelf} path={path} from={from} to={to} />
      ) : (
        <Parts findings={shown} comparison={c} shelf={shelf} path={path} from={from} to={to} />
      )}
    </>
  );
}

function sentenceCase(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1);
}

function Parts({ findings, comparison, shelf, path, from, to }: Props & { findings: Finding[]; comparison: ArtifactComparison }) {
  const [at, setAt] = useState(0);
  const [picked, setPicked] = useState("");
  const drawn = useQuery({ ...compareDrawing(shelf, path, from, to), enabled: DRAWN.includes(comparison.kind) });
  const drawing = drawn.data?.nodes.length ? drawn.data : null;
  const groups = useMemo(() => byType(findings.slice(0, MOST)), [findings]);
  const order = useMemo(() => groups.flatMap(([, own]) => own), [groups]);
  const chosen = order[Math.min(at, order.length - 1)];
  useEffect(() => {
    const step = (event: KeyboardEvent) => {
      if (event.target instanceof HTMLElement && /INPUT|TEXTAREA|SELECT/.test(event.target.tagName)) return;
      if (event.ctrlKey || event.metaKey || event.altKey) return;
      if (event.key === "n" || event.key === "p") setPicked("");
      if (event.key === "n") setAt((a) => Math.min(order.length - 1, a + 1));
      if (event.key === "p") setAt((a) => Math.max(0, a - 1));
    };
    window.addEventListener("keydown", step);
    return () => window.removeEventListener("keydown", step);
  }, [order.length]);
  const choose = (n: number) => {
    setPicked("");
    setAt(n);
  };
  const pick = (part: string) => {
    const n = order.findIndex((f) => f.part === part || f.part.startsWith(`${part}/`));
    if (n >= 0) choose(n);
    else setPicked(part);
  };
  if (order.length === 0 && !drawing)
    return (
      <div className="sheet empty">{comparison.equal ? "Both versions mean the same." : "Only cosmetic findings; they are hidden."}</div>
    );
  return (
    <div className="cols2">
      <section className="sheet" aria-label="Findings">
        <div className="ph">
          <h2 className="h3">Findings</h2>
          <span className="cap">
            {group(findings.length)} of {group(comparison.findings.length)}
            {comparison.truncated ? "+" : ""}
          </span>
          <span className="r cap">
            <kbd>n</kbd> next <kbd>p</kbd> previous
          </span>
        </div>
        <div className="tree" style={{ padding: 0 }}>
          {groups.map(([type, own]) => (
            <div key={type}>
              <p className="cap" style={{ padding: "8px 12px 4px" }}>
                <b>{sentenceCase(plural(type, own.length))}</b> {count(own.length, "finding")}
              </p>
              {own.map((f) => (
                <FindingRow
                  key={`${f.part} ${f.field ?? ""} ${f.action} ${f.effect}`}
                  finding={f}
                  current={f === chosen}
                  onChoose={() => choose(order.indexOf(f))}
                />
              ))}
            </div>
          ))}
          {order.length === 0 && (
            <p className="cap pad">{comparison.equal ? "Both versions mean the same." : "Only cosmetic findings; they are hidden."}</p>
          )}
          {findings.length > MOST && (
            <p className="cap pad">{group(findings.length - MOST)} more; narrow by effect, or save the report as JSON.</p>
          )}
        </div>
      </section>
      <div className="stack">
        {drawing && <DrawingView drawing={drawing} chosen={picked || (chosen?.part ?? "")} onChoose={pick} compared />}
        {chosen && !picked && (
          <FindingDetail finding={chosen} place={order.indexOf(chosen) + 1} total={order.length} comparison={comparison} path={path} />
        )}
        {chosen && !picked && <RemarkOnPart shelf={shelf} path={path} finding={chosen} />}
        {picked && (
          <p className="sheet pad sec">
            Nothing changed in <span className="mono">{picked}</span>.
          </p>
        )}
      </div>
    </div>
  );
}

function FindingRow({ finding, current, onChoose }: { finding: Finding; current: boolean; onChoose: () => void }) {
  const { lead, before, after } = told(finding);
  return (
    <RowAct className="find" aria-current={current} onClick={onChoose}>
      <span className="hd">
        <Mark action={finding.action} cosmetic={finding.effect === "cosmetic"} />
        <b>{finding.label}</b>
        <Effect effect={finding.effect} judged={finding.effect !== null} />
      </span>
      <span className="sub">
        {lead} <Inline before={before === null ? null : short(before)} after={after === null ? null : short(after)} />
        {finding.within && <span className="cap"> in {finding.within}</span>}
      </span>
    </RowAct>
  );
}

function short(text: string): string {
  return text.length > 90 ? `${text.slice(0, 88)}…` : text || "empty";
}

function SideBySide({ shelf, path, from, to }: Props) {
  const split = (ref: string) => (ref.startsWith("version:") ? { at: "main", version: ref.slice(8) } : { at: ref, version: undefined });
  const before = useQuery(text(shelf, path, split(from).at, split(from).version));
  const after = useQuery(text(shelf, path, split(to).at, split(to).version));
  if (before.isError) return <ProblemBox error={before.error} />;
  if (after.isError) return <ProblemBox error={after.error} />;
  if (!before.data || !after.data) return <Loading what="Reading both texts" />;
  return (
    <section className="sheet" aria-label="Raw text side by side">
      <div className="ph">
        <h2 className="h3">Raw text</h2>
        <span className="cap">
          {from} left, {to} right{before.data.truncated || after.data.truncated ? "; the beginning only" : ""}
        </span>
      </div>
      <TwoTexts path={path} before={before.data.text} after={after.data.text} labels={[`${path} at ${from}`, `${path} at ${to}`]} keys />
    </section>
  );
}
