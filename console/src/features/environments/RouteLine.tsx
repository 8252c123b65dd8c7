/** The line along the stations: where each stands, the gates between them, and the tag that waits, where it stopped. */
import type { Environment, Rehearsal } from "../../api/queries";

export const STATION = 278;
export const GAP = 184;
const HEIGHT = 30;
const Y = 14;

export function RouteLine({ stations, rehearsal }: { stations: Environment[]; rehearsal?: Rehearsal }) {
  const width = stations.length * STATION + (stations.length - 1) * GAP;
  const x = (i: number) => i * (STATION + GAP) + 24;
  const waits = stations.findIndex((e) => e.waiting);
  const end = waits > 0 ? x(waits) - GAP + 8 : width - 12;
  const held = rehearsal && stations[waits]?.name === rehearsal.environment && rehearsal.not_met > 0;
  return (
    <svg className="rline" width={width} height={HEIGHT} viewBox={`0 0 ${width} ${HEIGHT}`} aria-hidden="true">
      <path d={`M12 ${Y}H${width - 12}`} stroke="var(--line-strong)" strokeWidth={2.5} />
      <path d={`M12 ${Y}H${end}`} stroke="var(--accent)" strokeWidth={3.5} />
      {stations.map((e, i) => (
        <g key={e.name}>
          {i > 0 && (
            <path
              d={`M${x(i) - 117} 4v20M${x(i) - 109} 4v20`}
              stroke={i === waits && held ? "var(--ink)" : i <= waits || waits < 0 ? "var(--accent)" : "var(--line-strong)"}
              strokeWidth={3}
            />
          )}
          <circle
            cx={x(i)}
            cy={Y}
            r={8}
            fill="var(--sheet)"
            stroke={waits < 0 || i < waits ? "var(--accent)" : "var(--line-strong)"}
            strokeWidth={3.5}
          />
        </g>
      ))}
      {waits > 0 && <Flag x={end} tag={stations[waits]?.waiting ?? ""} />}
    </svg>
  );
}

function Flag({ x, tag }: { x: number; tag: string }) {
  const text = `tag:${tag.length > 11 ? `${tag.slice(0, 10)}…` : tag}`;
  const w = 16 + text.length * 7.4;
  return (
    <g>
      <path d={`M${x - w} 3h${w}l10 11l-10 11h${-w}z`} fill="var(--accent)" />
      <text x={x - w + 8} y={18.5} style={{ fill: "var(--sheet)", fontWeight: 600, fontSize: 12.5 }}>
        {text}
      </text>
    </g>
  );
}
