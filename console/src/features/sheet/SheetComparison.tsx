/** A compared workbook: its sheets, everything else that changed in it, and the chosen sheet as a grid. */

import type { Finding } from "../../api/queries";
import { Effect, Mark } from "../../marks/Mark";
import { count, group } from "../../marks/words";
import { RowAct } from "../../parts/Acts";
import { useParam } from "../../shell/useRefParam";
import { told } from "../compare/model";
import { Inline } from "../compare/Worded";
import type { ComparedSheet } from "./model";
import { SheetGridView } from "./SheetGridView";

interface Props {
  sheets: Record<string, ComparedSheet>;
  findings: Finding[];
}

export function SheetComparison({ sheets, findings }: Props) {
  const [asked, setAsked] = useParam("table");
  const of = (name: string) => findings.filter((f) => f.part === at(name) || f.part.startsWith(`${at(name)}/`));
  const names = Object.keys(sheets);
  const chosen = asked && sheets[asked] ? asked : (names[0] ?? "");
  const sheet = sheets[chosen];
  const others = findings.filter((f) => !names.some((n) => of(n).includes(f)));
  return (
    <div className="cols-database">
      <section className="sheet" aria-label="Sheets and findings">
        <div className="ph">
          <h2 className="h3">{count(names.length, "sheet")} changed</h2>
        </div>
        <div className="tree" style={{ padding: 0 }}>
          {names.map((name) => (
            <RowAct key={name} className="find" aria-current={name === chosen} onClick={() => setAsked(name)}>
              <span className="hd">
                <b>{name}</b>
                <span className="cap">{of(name).length ? count(of(name).length, "finding") : "same"}</span>
              </span>
              <span className="sub">
                <Became sheet={sheets[name] as ComparedSheet} />
              </span>
            </RowAct>
          ))}
        </div>
        {sheet && <Told title={`In ${chosen}`} findings={of(chosen)} />}
        {others.length > 0 && <Told title="Beside the sheets" findings={others} />}
      </section>
      {sheet?.grid ? (
        <SheetGridView name={chosen} sheet={sheet} grid={sheet.grid} />
      ) : (
        <p className="sheet pad sec">The cells of all sheets are equal.</p>
      )}
    </div>
  );
}

function at(name: string): string {
  return `/sheet:${name.replace(/\//g, "%2F")}`;
}

function Told({ title, findings }: { title: string; findings: Finding[] }) {
  return (
    <>
      <p className="cap" style={{ padding: "8px 12px 4px" }}>
        <b>{title}</b> {count(findings.length, "finding")}
      </p>
      {findings.map((f) => {
        const { lead, before, after } = told(f);
        return (
          <div key={`${f.part} ${f.field ?? ""} ${f.action} ${f.effect}`} className="find">
            <span className="hd">
              <Mark action={f.action} cosmetic={f.effect === "cosmetic"} />
              <b>{f.type === "rows" ? f.label : `${f.type} ${f.label}`}</b>
              <Effect effect={f.effect} />
            </span>
            <span className="sub">
              {f.field === "formula" && f.detail ? `${f.detail} ` : ""}
              {lead} <Inline before={before} after={after} />
            </span>
          </div>
        );
      })}
    </>
  );
}

function Became({ sheet }: { sheet: ComparedSheet }) {
  const { added, removed, changed } = sheet.rows;
  return (
    <>
      {changed > 0 && (
        <span className="t-changed">
          <Mark action="changed" /> {group(changed)}{" "}
        </span>
      )}
      {added > 0 && (
        <span className="t-added">
          <Mark action="added" /> {group(added)}{" "}
        </span>
      )}
      {removed > 0 && (
        <span className="t-removed">
          <Mark action="removed" /> {group(removed)}{" "}
        </span>
      )}
      {Boolean(sheet.recalculated) && <span className="cap">{count(sheet.recalculated ?? 0, "value")} recalculated</span>}
    </>
  );
}
