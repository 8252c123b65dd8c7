/** Courses of one metric; under the pointer, or by the arrow keys, all of them are read at one step. */
import { useXScale, useYScale } from "@mui/x-charts/hooks";
import { LineChart } from "@mui/x-charts/LineChart";
import { useMemo } from "react";
import type { Shape } from "./model";
import { type Branch, padded } from "./plots";
import type { Course } from "./queries";
import { DASH, inkOf, SignShape } from "./Sign";

const HEIGHT = 250;
/** Room for the names at the ends of the lines, and between two of them. */
const END = 118;
const APART = 15;

interface Props {
  courses: Course[];
  metric: string;
  unit: string;
  branches: Branch[];
}

const nameOf = (branch: string) => {
  const own = branch.split("/").pop() ?? branch;
  return own.length > 14 ? `${own.slice(0, 13)}…` : own;
};

export function CoursePlot({ courses, metric, unit, branches }: Props) {
  const steps = useMemo(() => [...new Set(courses.flatMap((c) => c.points.map((p) => p[0] ?? 0)))].sort((a, b) => a - b), [courses]);
  const shapeOf = (course: Course): Shape => branches.find((b) => b.name === course.branch)?.shape ?? "circle";
  const [least, most] = padded(courses.flatMap((c) => c.points.map((p) => p[1] ?? 0)));
  const dashes = Object.fromEntries(
    courses.map((c) => [
      `& [data-series="${c.number}"]`,
      { strokeDasharray: DASH[shapeOf(c)], strokeWidth: shapeOf(c) === "circle" ? 2.2 : 1.4 },
    ]),
  );
  return (
    <div role="group" aria-label={`Course of ${metric} in ${courses.length} runs; left and right read it step by step`}>
      <LineChart
        height={HEIGHT}
        skipAnimation
        hideLegend
        grid={{ horizontal: true }}
        margin={{ right: END }}
        series={courses.map((course) => {
          const at = new Map(course.points.map((p) => [p[0], p[1] ?? null]));
          return {
            id: String(course.number),
            label: `run ${course.number}, ${nameOf(course.branch)}`,
            data: steps.map((step) => at.get(step) ?? null),
            color: inkOf(shapeOf(course)),
            showMark: false,
            connectNulls: true,
            curve: "linear" as const,
            valueFormatter: (value: number | null) => (value === null ? "" : `${Number(value.toPrecision(4))}${unit ? ` ${unit}` : ""}`),
          };
        })}
        xAxis={[{ data: steps, scaleType: "linear", min: steps[0], max: steps.at(-1), height: 34 }]}
        yAxis={[{ min: least, max: most, width: 48 }]}
        sx={dashes}
      >
        <Ends courses={courses} shapeOf={shapeOf} />
      </LineChart>
    </div>
  );
}

/** Which line is whose, at its end; names that would lie on each other are moved apart. */
function Ends({ courses, shapeOf }: { courses: Course[]; shapeOf: (course: Course) => Shape }) {
  const x = useXScale<"linear">();
  const y = useYScale<"linear">();
  const ends = courses
    .map((course) => ({ course, x: x(course.points.at(-1)?.[0] ?? 0), y: y(course.points.at(-1)?.[1] ?? 0) }))
    .sort((a, b) => a.y - b.y);
  let last = Number.NEGATIVE_INFINITY;
  return (
    <g>
      {ends.map((end) => {
        const at = Math.max(end.y, last + APART);
        last = at;
        return (
          <g key={end.course.number}>
            <SignShape shape={shapeOf(end.course)} x={end.x} y={end.y} size={4} />
            <text x={end.x + 10} y={at + 4} className="axis end">
              {end.course.number} {nameOf(end.course.branch)}
            </text>
          </g>
        );
      })}
    </g>
  );
}
