/** The shapes of a drawing; what became of a thing is told by outline, band and mark before colour. */
import { MarkShape } from "../../marks/Mark";
import type { Box, DrawnEdge, DrawnNode, Point } from "./geometry";

export const INK: Record<string, string> = {
  same: "var(--line-strong)",
  added: "var(--added)",
  removed: "var(--removed)",
  changed: "var(--changed)",
  was: "var(--removed)",
};
const BANDS: Record<string, string> = { added: "url(#d-add)", removed: "url(#d-rem)", changed: "url(#d-chg)" };

export function Patterns() {
  const arrow = (id: string, fill: string) => (
    <marker key={id} id={id} markerWidth="9" markerHeight="9" refX="7.5" refY="4.5" orient="auto" markerUnits="userSpaceOnUse">
      <path d="M0 .8L7.5 4.5L0 8.2Z" fill={fill} />
    </marker>
  );
  return (
    <defs>
      <pattern id="d-rem" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(-45)">
        <path d="M0 0V6" stroke="var(--removed)" opacity=".45" />
      </pattern>
      <pattern id="d-chg" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <path d="M0 0V5" stroke="var(--changed)" strokeWidth="1.1" opacity=".55" />
      </pattern>
      <pattern id="d-add" width="6" height="6" patternUnits="userSpaceOnUse">
        <circle cx="1.5" cy="1.5" r=".9" fill="var(--added)" opacity=".7" />
      </pattern>
      {Object.entries({ ...INK, same: "var(--ink-3)" }).map(([state, fill]) => arrow(`d-${state}`, fill))}
    </defs>
  );
}

/** A frame or lane, behind everything else. */
export function Frame({ node, box }: { node: DrawnNode; box: Box }) {
  const { x, y, width, height } = box;
  const lying = node.shape === "lane" && width > height;
  return (
    <g>
      <rect
        x={x}
        y={y}
        width={width}
        height={height}
        rx="3"
        fill={node.shape === "lane" ? "none" : "var(--sheet)"}
        fillOpacity=".5"
        stroke={INK[node.state]}
        strokeWidth={node.state === "same" ? 1 : 1.8}
        strokeDasharray={node.state === "removed" ? "5 3" : undefined}
      />
      <text
        x={lying ? -(y + height / 2) : x + 10}
        y={lying ? x + 16 : y + 18}
        transform={lying ? "rotate(-90)" : undefined}
        textAnchor={lying ? "middle" : "start"}
        fontSize="12.5"
        fontWeight="600"
        fill="var(--ink-2)"
      >
        {cut(node.label, (lying ? height : width) / 7)}
      </text>
    </g>
  );
}

export function Shape({ node, box, chosen }: { node: DrawnNode; box: Box; chosen: boolean }) {
  const { x, y, width, height } = box;
  const line = {
    stroke: INK[node.state],
    strokeWidth: node.state === "same" ? 1.2 : 1.8,
    strokeDasharray: node.state === "removed" ? "5 3" : undefined,
  };
  const round = node.shape === "event" || node.shape === "end";
  const cx = x + width / 2;
  const cy = y + height / 2;
  const r = Math.min(width, height) / 2;
  const diamond = `M${cx} ${y}L${x + width} ${cy}L${cx} ${y + height}L${x} ${cy}Z`;
  const radius = node.shape === "port" ? height / 2 : 3;
  return (
    <>
      {chosen &&
        (round ? (
          <circle cx={cx} cy={cy} r={r + 5} className="ring" />
        ) : node.shape === "gateway" ? (
          <path d={`M${cx} ${y - 7}L${x + width + 9} ${cy}L${cx} ${y + height + 7}L${x - 9} ${cy}Z`} className="ring" />
        ) : (
          <rect x={x - 5} y={y - 5} width={width + 10} height={height + 10} rx={radius + 3} className="ring" />
        ))}
      {round ? (
        <>
          <circle cx={cx} cy={cy} r={r} fill="var(--sheet)" {...line} strokeWidth={node.shape === "end" ? 3 : line.strokeWidth} />
          {node.state === "added" && <circle cx={cx} cy={cy} r={r - 4} fill="none" stroke={INK.added} />}
          <Text x={cx - 60} y={y + height + 2} width={120} height={36} node={node} plain />
        </>
      ) : node.shape === "gateway" ? (
        <>
          <path d={diamond} fill="var(--sheet)" {...line} />
          {node.state !== "same" && (
            <path d={`M${x} ${cy}L${x + width / 5} ${y + (height * 3) / 10}V${y + (height * 7) / 10}Z`} fill={BANDS[node.state]} />
          )}
          {width > 80 ? (
            <Text x={x + width * 0.14} y={y + height * 0.14} width={width * 0.72} height={height * 0.72} node={node} plain />
          ) : (
            <Text x={cx - 60} y={y + height + 1} width={120} height={34} node={node} plain />
          )}
        </>
      ) : (
        <>
          <rect
            x={x}
            y={y}
            width={width}
            height={height}
            rx={radius}
            fill="var(--sheet)"
            {...line}
            {...(node.shape === "port" && node.state === "same" ? { strokeDasharray: "2 2" } : {})}
          />
          {node.state === "added" && (
            <rect
              x={x + 3}
              y={y + 3}
              width={width - 6}
              height={height - 6}
              rx={Math.max(1, radius - 2)}
              fill="none"
              stroke={INK.added}
              strokeWidth=".9"
            />
          )}
          {node.state !== "same" && node.shape !== "port" && (
            <rect x={x + 4} y={y + 4} width="8" height={height - 8} fill={BANDS[node.state]} />
          )}
          <Text
            x={x + (node.state === "same" || node.shape === "port" ? 6 : 14)}
            y={y}
            width={width - (node.state === "same" || node.shape === "port" ? 12 : 20)}
            height={height}
            node={node}
            plain={node.shape === "port"}
          />
        </>
      )}
      {node.state !== "same" && (
        <svg
          x={x + width - (round ? 8 : node.shape === "gateway" ? width * 0.3 : 8)}
          y={y - 8}
          width="16"
          height="16"
          viewBox="0 0 16 16"
          aria-hidden="true"
        >
          <MarkShape action={node.state} />
        </svg>
      )}
    </>
  );
}

function Text({
  x,
  y,
  width,
  height,
  node,
  plain = false,
}: {
  x: number;
  y: number;
  width: number;
  height: number;
  node: DrawnNode;
  plain?: boolean;
}) {
  return (
    <foreignObject x={x} y={y} width={Math.max(1, width)} height={Math.max(1, height)} style={{ pointerEvents: "none" }}>
      <div className={`dt ${plain ? "mid" : ""} ${height < 44 ? "low" : ""}`}>
        {!plain && height >= 58 && <span className="k">{`${node.type} `}</span>}
        <span className={`l ${node.state === "removed" ? "gone" : ""}`}>{`${node.label} `}</span>
        {!plain && height >= 48 && node.detail && <span className="d">{node.detail}</span>}
      </div>
    </foreignObject>
  );
}

export function Line({ edge, points, at, chosen }: { edge: DrawnEdge; points: Point[]; at: Point | undefined; chosen: boolean }) {
  const old = edge.state === "was" || edge.state === "removed";
  const d = rounded(points);
  const marked = edge.state === "was" ? "removed" : edge.state;
  const label = cut(edge.label, 22);
  return (
    <>
      {chosen && <path d={d} fill="none" stroke="var(--accent)" strokeWidth="7" opacity=".28" />}
      <path d={d} fill="none" stroke="transparent" strokeWidth="12" />
      <path
        d={d}
        fill="none"
        stroke={edge.state === "same" ? "var(--ink-3)" : INK[edge.state]}
        strokeWidth={edge.state === "same" ? 1.3 : 2}
        strokeDasharray={old ? "6 4" : edge.conditional ? "3 3" : undefined}
        markerEnd={`url(#d-${edge.state})`}
      />
      {at && label && (
        <g fontSize="12" fill="var(--ink-2)">
          <rect
            x={at.x - label.length * 3.1 - 3}
            y={at.y - 8}
            width={label.length * 6.2 + 6}
            height="16"
            fill="var(--paper)"
            opacity=".9"
          />
          <text x={at.x} y={at.y + 4} textAnchor="middle" textDecoration={old ? "line-through" : undefined}>
            {label}
          </text>
        </g>
      )}
      {at && edge.state !== "same" && (
        <svg x={at.x - 8} y={at.y - (label ? 26 : 8)} width="16" height="16" viewBox="0 0 16 16" aria-hidden="true">
          <MarkShape action={marked} />
        </svg>
      )}
    </>
  );
}

/** A course with its corners rounded a little. */
function rounded(points: Point[]): string {
  return points
    .map((p, i) => {
      const before = points[i - 1];
      const after = points[i + 1];
      if (!before) return `M${p.x} ${p.y}`;
      if (!after) return `L${p.x} ${p.y}`;
      const r = Math.min(6, Math.hypot(p.x - before.x, p.y - before.y) / 2, Math.hypot(after.x - p.x, after.y - p.y) / 2);
      const towards = (q: Point) => {
        const length = Math.hypot(q.x - p.x, q.y - p.y) || 1;
        return `${p.x + ((q.x - p.x) * r) / length} ${p.y + ((q.y - p.y) * r) / length}`;
      };
      return `L${towards(before)}Q${p.x} ${p.y} ${towards(after)}`;
    })
    .join("");
}

export function cut(text: string, most: number): string {
  return text.length > most ? `${text.slice(0, Math.max(1, Math.floor(most) - 1))}…` : text;
}
