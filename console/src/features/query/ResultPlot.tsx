/** The rows of a query as bars. */
import { BarChart } from "@mui/x-charts/BarChart";
import { count } from "../../marks/words";
import type { Bars } from "./chart";

export default function ResultPlot({ bars }: { bars: Bars }) {
  return (
    <div role="group" className="pad" aria-label={`${bars.value} by ${bars.name}`}>
      <BarChart
        height={380}
        skipAnimation
        hideLegend
        grid={{ horizontal: true }}
        xAxis={[
          {
            scaleType: "band",
            data: bars.names.map((_, place) => place),
            valueFormatter: (place: number) => bars.names[place] ?? "",
            tickLabelInterval: () => true,
            tickLabelStyle: { angle: -40, textAnchor: "end", fontSize: 11.5 },
            height: 110,
          },
        ]}
        yAxis={[{ width: 72 }]}
        series={[{ data: bars.values, color: "var(--tone-2)" }]}
      />
      {bars.left > 0 && <p className="cap pad">{count(bars.left, "more row")} not drawn.</p>}
    </div>
  );
}
