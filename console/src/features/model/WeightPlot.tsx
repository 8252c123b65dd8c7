/** How many values of one tensor changed by how much. */
import { small, type TensorRow } from "./model";

const WIDTH = 640;
const HEIGHT = 120;
const FOOT = 20;

export function WeightPlot({ tensor }: { tensor: TensorRow }) {
  const distance = tensor.distance;
  if (!distance) return null;
  const [low, high] = distance.within;
  if (low === null || high === null) return null;
  const most = Math.max(...distance.bins, 1);
  const step = WIDTH / distance.bins.length;
  const at = (value: number) => ((value - low) / (high - low || 1)) * WIDTH;
  return (
    <section className="sheet" aria-label={`Change of ${tensor.name}`}>
      <div className="ph">
        <h2 className="h3">
          Change of <span className="mono">{tensor.name}</span>
        </h2>
        <span className="cap">how many values moved by how much</span>
      </div>
      <svg
        viewBox={`0 0 ${WIDTH} ${HEIGHT + FOOT}`}
        role="img"
        aria-label={`Values moved by ${small(low)} to ${small(high)}`}
        style={{ width: "100%", display: "block", padding: "8px 12px" }}
      >
        {distance.bins.map((n, i) => {
          const height = n ? Math.max(1.5, (n / most) * (HEIGHT - 6)) : 0;
          return <rect key={i} x={i * step + 1} width={Math.max(step - 2, 1)} y={HEIGHT - height} height={height} fill="var(--tone-1)" />;
        })}
        <path d={`M0 ${HEIGHT + 0.5}H${WIDTH}`} stroke="var(--line-strong)" />
        {low < 0 && high > 0 && <path d={`M${at(0)} 4V${HEIGHT}`} stroke="var(--ink)" strokeDasharray="2.5 2" />}
        <text x="0" y={HEIGHT + 15} className="axis">
          {small(low)}
        </text>
        {low < 0 && high > 0 && (
          <text x={at(0)} y={HEIGHT + 15} textAnchor="middle" className="axis">
            0
          </text>
        )}
        <text x={WIDTH} y={HEIGHT + 15} textAnchor="end" className="axis">
          {small(high)}
        </text>
      </svg>
    </section>
  );
}
