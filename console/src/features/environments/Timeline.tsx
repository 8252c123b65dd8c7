/** What ran where, over time: one row an environment; a table with the same content for who cannot see it. */
import { useQueries } from "@tanstack/react-query";
import { scaleTime } from "d3-scale";
import { type Deployment, deployments, type Environment } from "../../api/queries";
import { count, day, when } from "../../marks/words";
import { Table } from "../../parts/Table";
import { useShelfKey } from "../../shell/Page";

const WIDTH = 1100;
const LEFT = 120;
const ROW = 46;
const SHORT_MS = 3 * 24 * 3600 * 1000; // of so short a time, days do not tell one mark from the next

export function Timeline({ places }: { places: Environment[] }) {
  const key = useShelfKey();
  const all = useQueries({ queries: places.map((e) => deployments(key, e.name)) });
  const rows = places.map((e, i) => ({
    name: e.name,
    runs: (all[i]?.data?.items ?? []).filter((d) => d.state === "recorded").toReversed(),
  }));
  const starts = rows.flatMap((r) => r.runs.map((d) => new Date(d.begun).getTime()));
  if (starts.length === 0) return null;
  const now = Date.now();
  const first = Math.min(...starts);
  const x = scaleTime([first, Math.max(now, first + 1)], [LEFT, WIDTH - 10]);
  const ticks = x.ticks(6).filter((tick) => x(tick) < WIDTH - 90);
  const isShort = now - first < SHORT_MS;
  const left = all.reduce((sum, one) => sum + (one.data ? one.data.total - one.data.items.length : 0), 0);
  const shade = shadesOf(places.map((e, i) => ({ route: e.route, runs: rows[i]?.runs ?? [] })));
  return (
    <section className="sheet" style={{ marginTop: 10 }} aria-label="Deployments">
      <div className="ph">
        <h2 className="h3">Deployments</h2>
        <span className="cap">
          since {when(new Date(first).toISOString())}
          {left > 0 && `, without ${count(left, "older one")}`}
        </span>
      </div>
      <svg className="tl" viewBox={`0 0 ${WIDTH} ${rows.length * ROW + 26}`} width="100%" aria-hidden="true">
        {ticks.map((tick) => (
          <g key={tick.getTime()}>
            <path d={`M${x(tick)} 18V${rows.length * ROW + 20}`} stroke="var(--line)" strokeDasharray="3 3" />
            <text x={x(tick)} y={14} textAnchor="middle">
              {isShort ? when(tick.toISOString()) : day(tick)}
            </text>
          </g>
        ))}
        {rows.map((row, i) => (
          <g key={row.name} transform={`translate(0 ${i * ROW + 22})`}>
            <text x={12} y={18} style={{ fontWeight: 600, fill: "var(--ink)" }}>
              {row.name}
            </text>
            {row.runs.map((d, k) => (
              <Run
                key={d.deployment}
                run={d}
                from={x(new Date(d.begun).getTime())}
                until={x(row.runs[k + 1] ? new Date(row.runs[k + 1]?.begun ?? 0).getTime() : now)}
                tone={shade(places[i]?.route ?? "", d.tag)}
              />
            ))}
          </g>
        ))}
        <text x={WIDTH - 10} y={14} textAnchor="end">
          {isShort ? "now" : "today"}
        </text>
        <path d={`M${WIDTH - 10} 18V${rows.length * ROW + 20}`} stroke="var(--accent)" strokeWidth="1.5" />
      </svg>
      <Table className="sr">
        <caption>Deployments by environment</caption>
        <tbody>
          {rows.flatMap((r) =>
            r.runs.map((d) => (
              <tr key={d.deployment}>
                <th>{r.name}</th>
                <td>{d.tag}</td>
                <td>{when(d.begun)}</td>
                <td>{d.who}</td>
                <td>{d.reason}</td>
              </tr>
            )),
          )}
        </tbody>
      </Table>
    </section>
  );
}

/** The newest tag of a route is the darkest; the three before it are told apart, older ones are alike. */
function shadesOf(rows: { route: string; runs: Deployment[] }[]) {
  const known = new Map<string, string[]>();
  for (const { route, runs } of rows)
    known.set(route, [...(known.get(route) ?? []), ...runs.filter((d) => !d.rolled_back_to).map((d) => `${d.begun} ${d.tag}`)]);
  const ordered = new Map([...known].map(([route, said]) => [route, [...new Set(said.sort().map((s) => s.slice(s.indexOf(" ") + 1)))]]));
  return (route: string, tag: string) => {
    const tags = ordered.get(route) ?? [];
    return Math.max(0, 3 - (tags.length - 1 - tags.indexOf(tag)));
  };
}

function Run({ run, from, until, tone }: { run: Deployment; from: number; until: number; tone: number }) {
  const w = Math.max(3, until - from);
  return (
    <g>
      <title>{`tag:${run.tag}, ${when(run.begun)}, by ${run.who}${run.reason ? `: ${run.reason}` : ""}`}</title>
      <rect x={from} y={2} width={w} height={24} className={`sp${tone} span`} />
      {w > 60 && (
        <text x={from + 8} y={19} className={`lb${tone}`}>
          {run.tag}
        </text>
      )}
      {run.rolled_back_to && (
        <text x={Math.min(from, WIDTH - 12)} y={-3} textAnchor={from > WIDTH - 100 ? "end" : "start"} style={{ fontSize: 11 }}>
          ↶ rolled back
        </text>
      )}
    </g>
  );
}
