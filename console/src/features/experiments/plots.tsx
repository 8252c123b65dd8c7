/** Plots of runs: metric over runs, parameter against metric, courses. Each is told as a table, too. */
import { extent } from "d3-array";
import { scaleLinear, scalePoint } from "d3-scale";
import { curveLinear, line } from "d3-shape";
import { useState } from "react";
import { Table } from "../../parts/Table";
import { heading, numberOf, type Shape, shown } from "./model";
import type { Column, Course, Experiment, Run } from "./queries";
import { DASH, inkOf, SignShape } from "./Sign";

const W = 408;
const H = 240;
const LEFT = 52;
const RIGHT = 22;
const TOP = 14;
const BOTTOM = 46;

interface Branch {
  name: string;
  shape: Shape;
}

function Frame({
  y,
  label,
  children,
  width = W,
}: {
  y: ReturnType<typeof scaleLinear<number>>;
  label: string;
  children: React.ReactNode;
  width?: number;
}) {
  const format = y.tickFormat(5);
  return (
    <svg viewBox={`0 0 ${width} ${H}`} className="plot" role="img" aria-label={label}>
      {y.ticks(5).map((t) => (
        <g key={t}>
          <path d={`M${LEFT} ${y(t)}H${width - RIGHT}`} stroke="var(--line)" />
          <text x={LEFT - 7} y={y(t) + 4} textAnchor="end" className="axis">
            {format(t)}
          </text>
        </g>
      ))}
      {children}
    </svg>
  );
}

function padded(values: number[]): [number, number] {
  const [low = 0, high = 1] = extent(values);
  const room = (high - low || Math.abs(high) || 1) * 0.08;
  return [low - room, high + room];
}

/** One parameter against one metric; without a parameter, the metric over runs. */
export function PointPlot({
  found,
  metric,
  parameter,
  branches,
  chosen,
  onChoose,
}: {
  found: Experiment;
  metric: Column;
  parameter: Column | undefined;
  branches: Branch[];
  chosen: number | null;
  onChoose: (run: number) => void;
}) {
  const runs = found.runs.filter(
    (r) => numberOf(r, metric) !== null && (!parameter || r.cells.parameters[parameter.name]?.value !== undefined),
  );
  const numeric = parameter !== undefined && runs.every((r) => numberOf(r, parameter) !== null);
  const words = [...new Set(runs.map((r) => (parameter ? shown(parameter, r.cells.parameters[parameter.name]?.value) : String(r.number))))];
  const y = scaleLinear(padded(runs.map((r) => numberOf(r, metric) ?? 0)), [H - BOTTOM, TOP]);
  const across = scaleLinear(padded(runs.map((r) => (parameter ? (numberOf(r, parameter) ?? 0) : r.number))), [LEFT, W - RIGHT]);
  const named = scalePoint(words, [LEFT, W - RIGHT]).padding(0.5);
  const x = (r: Run) =>
    numeric && parameter
      ? across(numberOf(r, parameter) ?? 0)
      : (named(parameter ? shown(parameter, r.cells.parameters[parameter.name]?.value) : String(r.number)) ?? LEFT);
  const ticks = numeric ? [...new Set(runs.map((r) => numberOf(r, parameter) ?? 0))].sort((a, b) => a - b) : words;
  const title = parameter ? `${heading(parameter)} against ${heading(metric)}` : `${heading(metric)} over runs`;
  if (runs.length === 0) return <p className="pad mut">No run has both.</p>;
  return (
    <>
      <Frame y={y} label={`${title}: ${runs.length} runs`}>
        {ticks.slice(0, 12).map((t) => (
          <text
            key={String(t)}
            x={typeof t === "number" ? across(t) : (named(t) ?? 0)}
            y={H - BOTTOM + 18}
            textAnchor="middle"
            className="axis"
          >
            {typeof t === "number" ? String(Number(t.toPrecision(4))) : t.slice(0, 14)}
          </text>
        ))}
        <text x={(LEFT + W - RIGHT) / 2} y={H - 8} textAnchor="middle" className="axis">
          {parameter ? heading(parameter) : "run"}
        </text>
        {branches.map((b) => {
          const own = runs.filter((r) => r.branch === b.name).sort((p, q) => x(p) - x(q) || p.number - q.number);
          return (
            <g key={b.name}>
              {own.length > 1 && (
                <path
                  d={line<Run>(x, (r) => y(numberOf(r, metric) ?? 0)).curve(curveLinear)(own) ?? ""}
                  fill="none"
                  stroke={inkOf(b.shape)}
                  strokeWidth="1.2"
                  strokeDasharray={DASH[b.shape]}
                />
              )}
              {own.map((r) => (
                <g key={r.number} className="point" onClick={() => onChoose(r.number)}>
                  {r.number === chosen && (
                    <circle cx={x(r)} cy={y(numberOf(r, metric) ?? 0)} r="10" fill="none" stroke="var(--accent)" strokeWidth="1.6" />
                  )}
                  <SignShape shape={b.shape} x={x(r)} y={y(numberOf(r, metric) ?? 0)} />
                  <text
                    x={x(r) + (b.shape === "triangle" ? -10 : 10)}
                    y={y(numberOf(r, metric) ?? 0) + (b.shape === "triangle" ? 14 : -6)}
                    textAnchor={b.shape === "triangle" ? "end" : "start"}
                    className="axis"
                  >
                    {r.number}
                  </text>
                </g>
              ))}
            </g>
          );
        })}
      </Frame>
      <Table className="sr">
        <caption>{title}</caption>
        <tbody>
          {runs.map((r) => (
            <tr key={r.number}>
              <th scope="row">run {r.number}</th>
              <td>{parameter ? shown(parameter, r.cells.parameters[parameter.name]?.value) : ""}</td>
              <td>{numberOf(r, metric)}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </>
  );
}

const WIDE = 490;
/** Room for the names at the ends of the lines. */
const END = 118;
const named = (branch: string) => {
  const own = branch.split("/").pop() ?? branch;
  return own.length > 14 ? `${own.slice(0, 13)}…` : own;
};

/** Courses of one metric; a line under the pointer reads all of them at one step. */
export function CoursePlot({ courses, metric, unit, branches }: { courses: Course[]; metric: string; unit: string; branches: Branch[] }) {
  const [at, setAt] = useState<number | null>(null);
  const points = courses.flatMap((c) => c.points as [number, number][]);
  const x = scaleLinear(extent(points, (p) => p[0]) as [number, number], [LEFT, WIDE - END]);
  const y = scaleLinear(padded(points.map((p) => p[1])), [H - BOTTOM, TOP]);
  const drawn = line<[number, number]>(
    (p) => x(p[0]),
    (p) => y(p[1]),
  );
  const shapeOf = (c: Course): Shape => branches.find((b) => b.name === c.branch)?.shape ?? "circle";
  const near = (c: Course, step: number) =>
    (c.points as [number, number][]).reduce((a, b) => (Math.abs(b[0] - step) < Math.abs(a[0] - step) ? b : a));
  const move = (event: React.PointerEvent<SVGRectElement>) => {
    const box = event.currentTarget.ownerSVGElement?.getBoundingClientRect();
    if (box) setAt(x.invert(((event.clientX - box.left) / box.width) * WIDE));
  };
  const press = (event: React.KeyboardEvent) => {
    const step =
      ((event.key === "ArrowRight" ? 1 : event.key === "ArrowLeft" ? -1 : 0) * ((x.domain()[1] ?? 1) - (x.domain()[0] ?? 0))) / 40;
    if (step) {
      event.preventDefault();
      setAt(Math.max(x.domain()[0] ?? 0, Math.min(x.domain()[1] ?? 1, (at ?? x.domain()[0] ?? 0) + step)));
    }
  };
  const ends = [...courses].map((c) => ({ course: c, end: c.points.at(-1) as [number, number] })).sort((a, b) => y(a.end[1]) - y(b.end[1]));
  let last = Number.NEGATIVE_INFINITY;
  return (
    <div tabIndex={0} role="group" aria-label={`Course of ${metric}; left and right read it step by step`} onKeyDown={press}>
      <Frame y={y} width={WIDE} label={`Course of ${metric} in ${courses.length} runs`}>
        {x.ticks(5).map((t) => (
          <text key={t} x={x(t)} y={H - BOTTOM + 18} textAnchor="middle" className="axis">
            {t}
          </text>
        ))}
        <text x={(LEFT + WIDE - END) / 2} y={H - 8} textAnchor="middle" className="axis">
          step
        </text>
        {courses.map((c) => (
          <path
            key={c.number}
            d={drawn(c.points as [number, number][]) ?? ""}
            fill="none"
            stroke={inkOf(shapeOf(c))}
            strokeWidth={shapeOf(c) === "circle" ? 2.2 : 1.4}
            strokeDasharray={DASH[shapeOf(c)]}
          />
        ))}
        {ends.map(({ course, end }) => {
          const at = Math.max(y(end[1]), last + 15);
          last = at;
          return (
            <g key={course.number}>
              <SignShape shape={shapeOf(course)} x={x(end[0])} y={y(end[1])} size={4} />
              <text x={x(end[0]) + 10} y={at + 4} className="axis end">
                {course.number} {named(course.branch)}
              </text>
            </g>
          );
        })}
        {at !== null && <path d={`M${x(at)} ${TOP}V${H - BOTTOM}`} stroke="var(--ink-2)" strokeDasharray="2 3" />}
        <rect
          x={LEFT}
          y={TOP}
          width={WIDE - END - LEFT}
          height={H - BOTTOM - TOP}
          fill="transparent"
          onPointerMove={move}
          onPointerLeave={() => setAt(null)}
        />
      </Frame>
      <p className="cap pad" role="status">
        {at !== null
          ? `step ${Math.round(at)}: ${courses.map((c) => `${Number(near(c, at)[1].toPrecision(4))}${unit ? ` ${unit}` : ""}, run ${c.number}`).join("; ")}`
          : "\u00a0"}
      </p>
    </div>
  );
}
