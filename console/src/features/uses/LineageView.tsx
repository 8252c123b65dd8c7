/** What a version was made from, what was made from it, and whether it can be made again. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { lineage as lineageQuery } from "../../api/queries";
import { address } from "../../api/query";
import { KindIcon } from "../../marks/spines";
import { fileName, when } from "../../marks/words";
import { Table } from "../../parts/Table";
import { Empty, Loading, ProblemBox } from "../../shell/states";
import { type Lineage, type Made, type Making, placed, versionName } from "./lineage";

const WIDTH = 212;
const GAP = 44;
const HEIGHT = 52;
const STEP = 62;
const LEFT = 12;
const TOP = 12;

export function LineageView({ shelf, path, at }: { shelf: string; path: string; at: string }) {
  const found = useQuery(lineageQuery(shelf, path, at));
  if (found.isPending) return <Loading what="Reading what it was made from" />;
  if (found.isError) return <ProblemBox error={found.error} />;
  const told = found.data;
  const save = (form: string) => address(`shelves/${shelf}/artifact/lineage/report`, { path, ref: at, form });
  const name = fileName(path);
  return (
    <>
      <h2 className="usesay">{told.sentence}</h2>
      <div className="cols-lineage">
        <section className="sheet" aria-label="Lineage">
          <div className="ph">
            <h2 className="h3">From what it was made to where it came</h2>
            <span className="r">
              <a className="textact" href={save("html")} download={`lineage of ${name}.html`}>
                Save as a page
              </a>
              <a className="textact" href={save("prov")} download={`lineage of ${name}.prov.json`}>
                Save as PROV-JSON
              </a>
            </span>
          </div>
          {told.steps.length === 0 ? (
            <Empty>
              Run what makes it with <code>everyshelf run</code>, or say what it was made from when you commit it at the command line: then
              this page shows where it comes from.
            </Empty>
          ) : (
            <Drawn told={told} at={at} />
          )}
          {told.more && <p className="pad cap">There are further steps.</p>}
        </section>
        <section className="sheet" aria-label="Can it be made again?">
          <div className="ph">
            <h2 className="h3">Can it be made again?</h2>
          </div>
          <p className="pad">{told.again.sentence}</p>
          {told.again.needs.length > 0 && (
            <Table>
              <thead>
                <tr>
                  <th>Needs</th>
                  <th>Which</th>
                  <th>There</th>
                </tr>
              </thead>
              <tbody>
                {told.again.needs.map((need) => (
                  <tr key={`${need.what} ${need.name}`}>
                    <td>{need.what}</td>
                    <td className="mono">
                      {need.name}
                      {need.detail ? <span className="cap"> {need.detail}</span> : null}
                    </td>
                    <td>{need.there === null ? "not recorded" : need.there ? "✓ yes" : "✗ no"}</td>
                  </tr>
                ))}
              </tbody>
            </Table>
          )}
        </section>
      </div>
    </>
  );
}

function Drawn({ told, at }: { told: Lineage; at: string }) {
  const { places, lines, columns, rows, left } = placed(told);
  const width = LEFT * 2 + columns * WIDTH + (columns - 1) * GAP;
  const height = TOP * 2 + rows * STEP;
  const x = (column: number) => LEFT + column * (WIDTH + GAP);
  const y = (row: number) => TOP + row * STEP;
  return (
    <div className="usesgraph">
      <div style={{ position: "relative", width, height }}>
        <svg className="routes" width={width} height={height} aria-hidden="true">
          <defs>
            <marker
              id="lineage-arrow"
              viewBox="0 0 8 8"
              refX="7"
              refY="4"
              markerWidth="8"
              markerHeight="8"
              markerUnits="userSpaceOnUse"
              orient="auto"
            >
              <path d="M0 0L8 4L0 8Z" className="head" />
            </marker>
          </defs>
          {lines.map(([from, to]) => {
            const [a, b] = [places.get(from), places.get(to)];
            if (!a || !b) return null;
            const [x1, y1, x2, y2] = [x(a.column) + WIDTH, y(a.row) + HEIGHT / 2, x(b.column), y(b.row) + HEIGHT / 2];
            return (
              <path
                key={`${from} ${to}`}
                d={`M${x1} ${y1}H${x2 - GAP / 2}V${y2}H${x2 - 1}`}
                className="useline"
                markerEnd="url(#lineage-arrow)"
              />
            );
          })}
        </svg>
        {told.versions.map((one) => {
          const place = places.get(one.id);
          return place ? (
            <VersionBox
              key={one.id}
              one={one}
              told={told}
              at={at}
              style={{ left: x(place.column), top: y(place.row), width: WIDTH, height: HEIGHT }}
            />
          ) : null;
        })}
        {told.steps.map((one) => {
          const place = places.get(one.id);
          return place ? (
            <StepBox key={one.id} one={one} style={{ left: x(place.column), top: y(place.row), width: WIDTH, height: HEIGHT }} />
          ) : null;
        })}
        {[...left].map(([column, count]) => (
          <span key={column} className="cap" style={{ position: "absolute", left: x(column), top: height - 14 }}>
            and {count} more on the page that is saved
          </span>
        ))}
      </div>
    </div>
  );
}

function VersionBox({ one, told, at, style }: { one: Made; told: Lineage; at: string; style: React.CSSProperties }) {
  const query = new URLSearchParams({
    path: one.artifact,
    ...(one.version ? { version: String(one.version) } : {}),
    ...(one.shelf === told.shelf && at !== "main" ? { ref: at } : {}),
  });
  const there = (one.runs_in ?? []).length ? `in ${(one.runs_in ?? []).join(", ")}` : when(one.recorded);
  return (
    <Link
      className={`usebox ${one.distance === 0 ? "asked" : ""}`}
      to={`/s/${one.shelf}/artifact?${query}`}
      style={style}
      title={`${one.shelf}: ${one.artifact}`}
    >
      <KindIcon kind={one.kind} />
      <span className="t">
        <b>{versionName(one)}</b>
      </span>
      <span className="d">{there}</span>
    </Link>
  );
}

function StepBox({ one, style }: { one: Making; style: React.CSSProperties }) {
  const given = Object.entries(one.parameters)
    .map(([name, value]) => `${name}=${value}`)
    .join(" ");
  const to = one.experiment ? `/s/${one.shelf}/experiments/${one.experiment}` : `/s/${one.shelf}/commit/${one.commit}`;
  return (
    <Link className="usebox step" to={to} style={style} title={[one.command, given].filter(Boolean).join("\n")}>
      <span className="t">
        <b>{one.name}</b>
      </span>
      <span className="d">
        {one.who}
        {one.began ? `, ${when(one.began)}` : ""}
        {one.command ? `, ${one.command}` : ""}
      </span>
    </Link>
  );
}
