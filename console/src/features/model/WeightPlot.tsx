/** How many values of one tensor changed by how much. */
import { BarChart } from "@mui/x-charts/BarChart";
import { count } from "../../marks/words";
import { Table } from "../../parts/Table";
import { small, type TensorRow } from "./model";

const HEIGHT = 170;

export function WeightPlot({ tensor }: { tensor: TensorRow }) {
  const distance = tensor.distance;
  if (!distance) return null;
  const [low, high] = distance.within;
  if (low === null || high === null) return null;
  const { bins } = distance;
  const step = (high - low) / bins.length;
  const edge = (place: number) => low + place * step;
  const spans = bins.map((_, place) => `${small(edge(place))} to ${small(edge(place + 1))}`);
  const zero = low < 0 && high > 0 ? Math.floor(-low / step) : -1;
  const named = [...new Set([0, ...(zero > 0 ? [zero] : []), bins.length - 1])];
  const heading = (place: number) => (place === zero ? "0" : small(place === 0 ? low : high));
  return (
    <section className="sheet" aria-label={`Change of ${tensor.name}`}>
      <div className="ph">
        <h2 className="h3">
          Change of <span className="mono">{tensor.name}</span>
        </h2>
        <span className="cap">how many values moved by how much</span>
      </div>
      <div role="group" aria-label={`Values moved by ${small(low)} to ${small(high)}`}>
        <BarChart
          height={HEIGHT}
          skipAnimation
          hideLegend
          grid={{ horizontal: true }}
          xAxis={[
            {
              scaleType: "band",
              data: bins.map((_, place) => place),
              categoryGapRatio: 0.1,
              tickInterval: named,
              tickLabelInterval: () => true,
              valueFormatter: (place: number, { location }) => (location === "tick" ? heading(place) : `moved by ${spans[place]}`),
            },
          ]}
          yAxis={[{ width: 56, tickMinStep: 1 }]}
          series={[{ data: bins, color: "var(--tone-2)", valueFormatter: (n) => count(n ?? 0, "value") }]}
        />
      </div>
      <Table className="sr">
        <caption>{`Values of ${tensor.name} by how much they moved`}</caption>
        <tbody>
          {bins.map((n, place) => (
            <tr key={spans[place]}>
              <th>{spans[place]}</th>
              <td>{n}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </section>
  );
}
