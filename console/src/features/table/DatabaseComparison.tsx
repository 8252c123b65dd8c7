/** A compared database: its tables with what became of each, other objects of the schema, and the chosen table in full. */

import type { Finding } from "../../api/queries";
import { Effect, Mark } from "../../marks/Mark";
import { count, group } from "../../marks/words";
import { RowAct } from "../../parts/Acts";
import { useParam } from "../../shell/useRefParam";
import { told } from "../compare/model";
import { Inline } from "../compare/Worded";
import type { ComparedTable } from "./model";
import { RowBars } from "./RowBars";
import { TableComparison } from "./TableComparison";

interface Props {
  tables: Record<string, ComparedTable>;
  findings: Finding[];
  shelf: string;
  path: string;
  from: string;
  to: string;
}

export function DatabaseComparison({ tables, findings, ...where }: Props) {
  const [asked, setAsked] = useParam("table");
  const of = (name: string) => findings.filter((f) => f.part.startsWith(`/table:${name.replace(/\//g, "%2F")}/`));
  const names = Object.keys(tables).sort((a, b) => of(b).length - of(a).length);
  const chosen = asked && tables[asked] ? asked : (names[0] ?? "");
  const table = tables[chosen];
  const others = findings.filter((f) => !names.some((n) => of(n).includes(f)));
  return (
    <div className="cols-database">
      <section className="sheet" aria-label="Tables">
        <div className="ph">
          <h2 className="h3">{count(names.length, "table")} in both</h2>
        </div>
        <div className="tree" style={{ padding: 0 }}>
          {names.map((name) => (
            <RowAct key={name} className="find" aria-current={name === chosen} onClick={() => setAsked(name)}>
              <span className="hd">
                <b className="mono">{name}</b>
                <span className="cap">{of(name).length ? count(of(name).length, "finding") : "same"}</span>
              </span>
              <span className="sub">
                <Became table={tables[name] as ComparedTable} />
              </span>
            </RowAct>
          ))}
        </div>
        {others.length > 0 && (
          <p className="cap" style={{ padding: "8px 12px 4px" }}>
            <b>Schema</b> {count(others.length, "finding")}
          </p>
        )}
        {others.map((f) => {
          const { lead, before, after } = told(f);
          return (
            <div key={`${f.part} ${f.field ?? ""} ${f.action}`} className="find">
              <span className="hd">
                <Mark action={f.action} cosmetic={f.effect === "cosmetic"} />
                <b>
                  {f.type} <span className="mono">{f.label}</span>
                </b>
                <Effect effect={f.effect} />
              </span>
              <span className="sub">
                {lead} <Inline before={before} after={after} />
              </span>
            </div>
          );
        })}
      </section>
      {table ? (
        <div>
          <div className="line1">
            <h2 className="mono">{chosen}</h2>
            <RowBars table={table} />
          </div>
          <TableComparison key={chosen} table={table} findings={of(chosen)} name={chosen} {...where} />
        </div>
      ) : (
        <p className="sheet pad sec">No table is in both versions.</p>
      )}
    </div>
  );
}

function Became({ table }: { table: ComparedTable }) {
  const { added, removed, changed, after } = table.rows;
  if (!added && !removed && !changed) return <>{count(after, "row")}, all the same</>;
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
          <Mark action="removed" /> {group(removed)}
        </span>
      )}
    </>
  );
}
