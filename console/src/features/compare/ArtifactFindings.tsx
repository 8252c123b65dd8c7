/** One artifact compared: sentence, findings by part, before and after, down to raw text side by side. */
import { Button } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { artifactComparison, type ArtifactComparison, type Finding, type TableCounts, text } from "../../api/queries";
import { Effect, Mark } from "../../marks/Mark";
import { count, group } from "../../marks/words";
import { Loading, ProblemBox } from "../../shell/states";
import { useParam } from "../../shell/useRefParam";
import { EffectFilter } from "./EffectFilter";
import { Lines } from "./Lines";
import { byType, plural, told } from "./model";
import { Inline, Worded } from "./Worded";

interface Props {
  shelf: string;
  path: string;
  from: string;
  to: string;
  onAll?: () => void;
}
const MOST = 1000;

export function ArtifactFindings({ shelf, path, from, to, onAll }: Props) {
  const [seen, setSeen] = useParam("seen", "parts");
  const [effect, setEffect] = useParam("effect");
  const [cosmetic, setCosmetic] = useParam("cosmetic");
  const found = useQuery(artifactComparison(shelf, path, from, to));
  if (found.isPending) return <Loading what={`Comparing ${path}`} />;
  if (found.isError) return <ProblemBox error={found.error} />;
  const c = found.data;
  const hidden = c.effects.cosmetic ?? 0;
  const shown = c.findings.filter((f) => (effect ? f.effect === effect : cosmetic || f.effect !== "cosmetic"));
  const breaking = c.effects.breaks ? `${count(c.effects.breaks, "finding")} may break users` : "breaks nothing";
  return (
    <>
      <h1>
        {c.equal ? "Nothing changed" : sentenceCase(c.headline)}; <b style={{ color: "var(--accent)" }}>{breaking}</b>.
      </h1>
      {c.note && c.note !== c.headline && <p className="sec">{sentenceCase(c.note)}.</p>}
      <div className="line1">
        <EffectFilter effects={c.effects} value={effect} onChange={setEffect} />
        <span className="seg" role="group" aria-label="Seen as">
          <button type="button" aria-pressed={seen === "parts"} onClick={() => setSeen("parts")}>Parts</button>
          <button type="button" aria-pressed={seen === "text"} onClick={() => setSeen("text")}>Raw text</button>
        </span>
        {hidden > 0 && !effect && (
          <button type="button" className="plainbtn" onClick={() => setCosmetic(cosmetic ? "" : "shown")}>
            {cosmetic ? "Hide" : "Show"} {count(hidden, "cosmetic finding")}
          </button>
        )}
        <span className="end">{onAll && <Button variant="outlined" onClick={onAll}>All artifacts</Button>}</span>
      </div>
      {seen === "text" ? <SideBySide shelf={shelf} path={path} from={from} to={to} /> : <Parts findings={shown} comparison={c} />}
    </>
  );
}

function sentenceCase(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1);
}

function Parts({ findings, comparison }: { findings: Finding[]; comparison: ArtifactComparison }) {
  const [at, setAt] = useState(0);
  const groups = useMemo(() => byType(findings.slice(0, MOST)), [findings]);
  const order = useMemo(() => groups.flatMap(([, own]) => own), [groups]);
  const chosen = order[Math.min(at, order.length - 1)];
  useEffect(() => {
    const step = (event: KeyboardEvent) => {
      if (event.target instanceof HTMLElement && /INPUT|TEXTAREA|SELECT/.test(event.target.tagName)) return;
      if (event.ctrlKey || event.metaKey || event.altKey) return;
      if (event.key === "n") setAt((a) => Math.min(order.length - 1, a + 1));
      if (event.key === "p") setAt((a) => Math.max(0, a - 1));
    };
    window.addEventListener("keydown", step);
    return () => window.removeEventListener("keydown", step);
  }, [order.length]);
  if (order.length === 0) return <div className="sheet empty">{comparison.equal ? "Both versions mean the same." : "Only cosmetic findings; they are hidden."}</div>;
  return (
    <div className="cols2">
      <section className="sheet" aria-label="Findings">
        <div className="ph">
          <h3>Findings</h3>
          <span className="cap">{group(findings.length)} of {group(comparison.findings.length)}{comparison.truncated ? "+" : ""}</span>
          <span className="r cap"><kbd>n</kbd> next <kbd>p</kbd> previous</span>
        </div>
        <div className="tree" style={{ padding: 0 }}>
          {groups.map(([type, own]) => (
            <div key={type}>
              <p className="cap" style={{ padding: "8px 12px 4px" }}><b>{sentenceCase(plural(type, own.length))}</b> {count(own.length, "finding")}</p>
              {own.map((f) => (
                <FindingRow key={`${f.part} ${f.field ?? ""} ${f.action} ${f.effect}`} finding={f} current={f === chosen} onChoose={() => setAt(order.indexOf(f))} />
              ))}
            </div>
          ))}
          {findings.length > MOST && <p className="cap pad">{group(findings.length - MOST)} more; narrow by effect, or save as JSON with everyshelf compare --json.</p>}
        </div>
      </section>
      <div>
        {chosen && <Detail finding={chosen} place={order.indexOf(chosen) + 1} total={order.length} comparison={comparison} />}
        {comparison.table && <Rows table={comparison.table as unknown as TableCounts} />}
      </div>
    </div>
  );
}

function FindingRow({ finding, current, onChoose }: { finding: Finding; current: boolean; onChoose: () => void }) {
  const { lead, before, after } = told(finding);
  return (
    <button type="button" className="find" aria-current={current} onClick={onChoose}>
      <span className="hd">
        <Mark action={finding.action} cosmetic={finding.effect === "cosmetic"} />
        <b>{finding.label}</b>
        <Effect effect={finding.effect} />
      </span>
      <span className="sub">
        {lead} <Inline before={before === null ? null : short(before)} after={after === null ? null : short(after)} />
      </span>
    </button>
  );
}

function short(text: string): string {
  return text.length > 90 ? `${text.slice(0, 88)}…` : text || "empty";
}

function Detail({ finding, place, total, comparison }: { finding: Finding; place: number; total: number; comparison: ArtifactComparison }) {
  const { lead, before, after } = told(finding);
  const version = (side: Record<string, unknown> | null) => (side?.version ? `version ${String(side.version)}` : "");
  const lines = `${before ?? ""}${after ?? ""}`.includes("\n") && finding.field;
  return (
    <section className="sheet" aria-label="Finding">
      <div className="ph">
        <Mark action={finding.action} cosmetic={finding.effect === "cosmetic"} />
        <h3>{finding.label}{finding.field ? `, ${finding.field} ${finding.action}` : `, ${finding.action}`}</h3>
        <span className="mono mut" style={{ overflow: "hidden", textOverflow: "ellipsis" }}>{finding.part}</span>
        <span className="r cap">{place} of {total}</span>
      </div>
      {lines ? <Lines before={before ?? ""} after={after ?? ""} label="Both texts, line by line" /> : <div className="ba">
        {before !== null && (
          <div className="box"><p className="cap">Before {version(comparison.before as Record<string, unknown> | null)}</p><p className="val"><Worded before={before} after={after} side="before" /></p></div>
        )}
        {before !== null && after !== null && <span aria-hidden="true" style={{ font: "22px var(--sans)", color: "var(--changed)" }}>→</span>}
        {after !== null && (
          <div className="box new"><p className="cap">After {version(comparison.after as Record<string, unknown> | null)}</p><p className="val"><Worded before={before} after={after} side="after" /></p></div>
        )}
        {before === null && after === null && <p>{lead}{finding.detail && finding.detail !== lead ? `: ${finding.detail}` : ""}</p>}
      </div>}
      {finding.used_by && finding.used_by.length > 0 && <UsedBy uses={finding.used_by} />}
    </section>
  );
}

/** Whom a breaking finding breaks: where, and whether that is exact or a guess. */
function UsedBy({ uses }: { uses: NonNullable<Finding["used_by"]> }) {
  return (
    <table aria-label="Used by">
      <thead><tr><th>Used by</th><th>Where</th><th>Known</th></tr></thead>
      <tbody>
        {uses.map((u) => (
          <tr key={`${u.artifact} ${u.place}`}><td className="mono">{u.artifact}</td><td>{u.label} <span className="mono mut">{u.place}</span></td><td>{u.exact ? "exactly" : "a guess"}</td></tr>
        ))}
      </tbody>
    </table>
  );
}

function Rows({ table }: { table: TableCounts }) {
  const { rows } = table;
  const most = Math.max(rows.before, rows.after, 1);
  const bar = (n: number, name: string, fill: string) => (
    <tr key={name}>
      <th scope="row">{name}</th>
      <td className="num">{group(n)}</td>
      <td style={{ width: "55%" }}><svg width="100%" height="12" aria-hidden="true"><rect width={`${(100 * n) / most}%`} height="12" fill={fill} stroke="var(--line-strong)" /></svg></td>
    </tr>
  );
  return (
    <section className="sheet" style={{ marginTop: 10 }} aria-label="Rows">
      <div className="ph"><h3>Rows</h3><span className="cap">{table.key.length ? `matched by ${table.key.join(", ")}` : "matched without a key"}</span></div>
      <table>
        <tbody>
          {bar(rows.before, "before", "none")}
          {bar(rows.after, "after", "var(--sunk)")}
          {bar(rows.changed, "changed", "var(--changed)")}
          {bar(rows.added, "added", "var(--added)")}
          {bar(rows.removed, "removed", "var(--removed)")}
        </tbody>
      </table>
      {table.samples.length > 0 && (
        <div className="scroll" style={{ maxHeight: 260 }} tabIndex={0} role="region" aria-label="Changed cells">
          <table>
            <thead><tr><th>{table.key.join(", ")}</th><th>Column</th><th>Before</th><th>After</th></tr></thead>
            <tbody>
              {table.samples.map((s, i) => (
                <tr key={i}><td>{s.key.join(", ")}</td><td className="mono">{s.column}</td><td><del>{s.before || "empty"}</del></td><td><ins>{s.after || "empty"}</ins></td></tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
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
      <div className="ph"><h3>Raw text</h3><span className="cap">{from} left, {to} right{before.data.truncated || after.data.truncated ? "; the beginning only" : ""}</span></div>
      <Lines before={before.data.text} after={after.data.text} label="Both texts" />
    </section>
  );
}
