/** One finding in full: before and after, line by line where it is long, and whom it breaks. */

import type { ArtifactComparison, Finding } from "../../api/queries";
import { Mark } from "../../marks/Mark";
import { later } from "../../parts/later";
import { Table } from "../../parts/Table";
import { Loading } from "../../shell/states";
import { told } from "./model";
import { Worded } from "./Worded";

const TwoTexts = later(() => import("../text/SideBySide"), <Loading what="Comparing both texts" />);

export function FindingDetail({
  finding,
  place,
  total,
  comparison,
  path,
}: {
  finding: Finding;
  place: number;
  total: number;
  comparison: ArtifactComparison;
  path: string;
}) {
  const { lead, before, after } = told(finding);
  const version = (side: Record<string, unknown> | null) => (side?.version ? `version ${String(side.version)}` : "");
  const lines = `${before ?? ""}${after ?? ""}`.includes("\n") && finding.field;
  return (
    <section className="sheet" aria-label="Finding">
      <div className="ph">
        <Mark action={finding.action} cosmetic={finding.effect === "cosmetic"} />
        <h2 className="h3">
          {finding.label}
          {finding.field ? `, ${finding.field} ${finding.action}` : `, ${finding.action}`}
        </h2>
        {finding.within && <span className="cap">in {finding.within}</span>}
        <span className="mono mut" style={{ overflow: "hidden", textOverflow: "ellipsis" }}>
          {finding.part}
        </span>
        <span className="r cap">
          {place} of {total}
        </span>
      </div>
      {lines ? (
        <TwoTexts path={named(comparison.kind, path, finding)} before={before ?? ""} after={after ?? ""} labels={["Before", "After"]} />
      ) : (
        <div className="ba">
          {before !== null && (
            <div className="box">
              <p className="cap">Before {version(comparison.before as Record<string, unknown> | null)}</p>
              <p className="val">
                <Worded before={before} after={after} side="before" />
              </p>
            </div>
          )}
          {before !== null && after !== null && (
            <span aria-hidden="true" style={{ font: "22px var(--sans)", color: "var(--changed)" }}>
              →
            </span>
          )}
          {after !== null && (
            <div className="box new">
              <p className="cap">After {version(comparison.after as Record<string, unknown> | null)}</p>
              <p className="val">
                <Worded before={before} after={after} side="after" />
              </p>
            </div>
          )}
          {before === null && after === null && (
            <p>
              {lead}
              {finding.detail && finding.detail !== lead ? `: ${finding.detail}` : ""}
            </p>
          )}
        </div>
      )}
      {finding.used_by && finding.used_by.length > 0 && <UsedBy uses={finding.used_by} />}
    </section>
  );
}

/** A name that says which syntax a field's text has; "" where the text itself says it. */
function named(kind: string, path: string, finding: Finding): string {
  if (kind === "notebook") return finding.type.includes("markdown") ? "cell.md" : "cell.py";
  if (/sql|query/i.test(finding.field ?? "")) return "query.sql";
  return ["text", "module", "script"].includes(kind) ? path : "";
}

/** Whom a breaking finding breaks: where, and whether that is exact or a guess. */
function UsedBy({ uses }: { uses: NonNullable<Finding["used_by"]> }) {
  return (
    <Table aria-label="Used by">
      <thead>
        <tr>
          <th>Used by</th>
          <th>Where</th>
          <th>Known</th>
        </tr>
      </thead>
      <tbody>
        {uses.map((u) => (
          <tr key={`${u.artifact} ${u.place}`}>
            <td className="mono">{u.artifact}</td>
            <td>
              {u.label} <span className="mono mut">{u.place}</span>
            </td>
            <td>{u.exact ? "exactly" : "a guess"}</td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}
