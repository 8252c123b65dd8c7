/** What files beside the model say was measured, before and after, with the direction where the name tells which is good. */
import { group } from "../../marks/words";
import { Table } from "../../parts/Table";
import { type Metric, small } from "./model";

export function MetricTable({ metrics }: { metrics: Metric[] }) {
  return (
    <section className="sheet" aria-label="Metrics">
      <div className="ph">
        <h2 className="h3">Metrics (metrics.json)</h2>
        <span className="cap">{[...new Set(metrics.map((m) => m.file))].join(", ")}</span>
      </div>
      <Table className="tensors">
        <thead>
          <tr>
            <th scope="col">name</th>
            <th scope="col" className="num">
              before
            </th>
            <th scope="col" className="num">
              after
            </th>
            <th scope="col" className="num">
              difference
            </th>
            <th scope="col">that is</th>
          </tr>
        </thead>
        <tbody>
          {metrics.map((m) => (
            <tr key={`${m.file} ${m.name}`}>
              <th scope="row" className="mono">
                {m.name}
              </th>
              <td className="num">{told(m.before)}</td>
              <td className="num">{told(m.after)}</td>
              <td className="num">{difference(m)}</td>
              <td>
                {m.before === m.after ? (
                  <span className="cap">same</span>
                ) : m.better === null ? (
                  <span className="cap">changed</span>
                ) : m.better ? (
                  <span className="t-added">
                    <span aria-hidden="true">▲</span> better
                  </span>
                ) : (
                  <span className="t-removed">
                    <span aria-hidden="true">▼</span> worse
                  </span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </section>
  );
}

function told(value: Metric["before"]): string {
  if (value === null || value === undefined) return "none";
  return typeof value === "number" && Number.isInteger(value) ? group(value) : String(value);
}

function difference({ before, after }: Metric): string {
  if (typeof before !== "number" || typeof after !== "number" || before === after) return "";
  const by = after - before;
  return `${by > 0 ? "+" : "−"}${Number.isInteger(by) ? group(Math.abs(by)) : small(Math.abs(by))}`;
}
