/** One parameter against one metric; without a parameter, the metric over runs. Each is told as a table, too. */
import { useDrawingArea, useXScale, useYScale } from "@mui/x-charts/hooks";
import type { ScatterMarkerProps } from "@mui/x-charts/ScatterChart";
import { ScatterChart } from "@mui/x-charts/ScatterChart";
import { createContext, useContext } from "react";
import { Table } from "../../parts/Table";
import { heading, numberOf, type Shape, shown } from "./model";
import { type Branch, padded } from "./plots";
import type { Column, Experiment, Run } from "./queries";
import { DASH, inkOf, Sign, SignShape } from "./Sign";

interface Point {
  run: Run;
  x: number;
  y: number;
}
interface Drawn {
  /** Points of each branch, in the order in which its line goes. */
  own: Map<string, Point[]>;
  shapes: Map<string, Shape>;
  chosen: number | null;
}
const Around = createContext<Drawn>({ own: new Map(), shapes: new Map(), chosen: null });
const HEIGHT = 250;

interface Props {
  found: Experiment;
  metric: Column;
  parameter: Column | undefined;
  branches: Branch[];
  chosen: number | null;
  onChoose: (run: number) => void;
}

export function PointPlot({ found, metric, parameter, branches, chosen, onChoose }: Props) {
  const parameterOf = (run: Run) => (parameter ? run.cells.parameters[parameter.name]?.value : run.number);
  const runs = found.runs.filter((run) => numberOf(run, metric) !== null && parameterOf(run) !== undefined);
  if (runs.length === 0) return <p className="pad mut">No run has both.</p>;
  const numeric = !parameter || runs.every((run) => numberOf(run, parameter) !== null);
  const said = (run: Run) => (parameter ? shown(parameter, parameterOf(run)) : String(run.number));
  const words = [...new Set(runs.map(said))];
  const across = (run: Run) => {
    if (!numeric) return words.indexOf(said(run));
    return parameter ? (numberOf(run, parameter) ?? 0) : run.number;
  };
  const points = runs.map((run): Point => ({ run, x: across(run), y: numberOf(run, metric) ?? 0 }));
  const own = new Map(
    branches.map(({ name }) => [
      name,
      points.filter((p) => p.run.branch === name).sort((a, b) => a.x - b.x || a.run.number - b.run.number),
    ]),
  );
  const [low, high] = padded(points.map((p) => p.x));
  const [least, most] = padded(points.map((p) => p.y));
  const title = parameter ? `${heading(parameter)} against ${heading(metric)}` : `${heading(metric)} over runs`;
  const ticks = [...new Set(points.map((p) => p.x))].sort((a, b) => a - b);
  return (
    <Around.Provider value={{ own, shapes: new Map(branches.map((b) => [b.name, b.shape])), chosen }}>
      <div role="group" aria-label={`${title}: ${runs.length} runs`}>
        <ScatterChart
          height={HEIGHT}
          skipAnimation
          grid={{ horizontal: true }}
          series={[...own].map(([name, list]) => ({
            id: name,
            label: name,
            data: list.map(({ run, x, y }) => ({ id: run.number, x, y })),
            color: inkOf(branches.find((b) => b.name === name)?.shape ?? "circle"),
            labelMarkType: () => <Sign shape={branches.find((b) => b.name === name)?.shape ?? "circle"} />,
            markerSize: 5,
            valueFormatter: (_, { dataIndex }) => {
              const point = list[dataIndex];
              return point ? `run ${point.run.number}: ${said(point.run)}, ${shown(metric, point.y)}` : "";
            },
          }))}
          xAxis={[
            {
              min: low,
              max: high,
              height: 34,
              tickInterval: ticks.length <= 12 ? ticks : undefined,
              valueFormatter: (value: number) => (numeric ? String(Number(value.toPrecision(4))) : (words[value] ?? "").slice(0, 14)),
            },
          ]}
          yAxis={[{ min: least, max: most, width: 48 }]}
          slots={{ marker: Marker }}
          onItemClick={(_: unknown, { seriesId, dataIndex }: { seriesId: string | number; dataIndex: number }) => {
            const point = own.get(String(seriesId))?.[dataIndex];
            if (point) onChoose(point.run.number);
          }}
        >
          <Lines />
        </ScatterChart>
      </div>
      <Table className="sr">
        <caption>{title}</caption>
        <tbody>
          {runs.map((run) => (
            <tr key={run.number}>
              <th scope="row">run {run.number}</th>
              <td>{parameter ? said(run) : ""}</td>
              <td>{numberOf(run, metric)}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </Around.Provider>
  );
}

/** The sign of the branch, with the number of the run beside it. */
function Marker({ seriesId, dataIndex, x, y, onClick }: ScatterMarkerProps) {
  const { own, shapes, chosen } = useContext(Around);
  const { left, width } = useDrawingArea();
  const shape = shapes.get(String(seriesId)) ?? "circle";
  const run = own.get(String(seriesId))?.[dataIndex]?.run.number;
  const before = x > left + width - 24;
  return (
    <g className="point" onClick={onClick}>
      {run === chosen && <circle cx={x} cy={y} r="10" fill="none" stroke="var(--accent)" strokeWidth="1.6" />}
      <SignShape shape={shape} x={x} y={y} />
      <text x={x + (before ? -10 : 10)} y={y + (shape === "triangle" ? 14 : -6)} textAnchor={before ? "end" : "start"} className="axis">
        {run}
      </text>
    </g>
  );
}

/** Runs of one branch joined, in its own dashes. */
function Lines() {
  const { own, shapes } = useContext(Around);
  const x = useXScale<"linear">();
  const y = useYScale<"linear">();
  return (
    <g aria-hidden="true">
      {[...own].map(([name, list]) => {
        const shape = shapes.get(name) ?? "circle";
        const points = list.map((p) => `${x(p.x)} ${y(p.y)}`);
        return points.length > 1 ? (
          <path key={name} d={`M${points.join("L")}`} fill="none" stroke={inkOf(shape)} strokeWidth="1.2" strokeDasharray={DASH[shape]} />
        ) : null;
      })}
    </g>
  );
}
