/** The sign of a branch: shape first, so that colours may be missing. */
import type { Shape } from "./model";

const INK: Record<Shape, string> = { square: "var(--ink-3)", circle: "var(--accent)", triangle: "var(--ink)" };
export const DASH: Record<Shape, string | undefined> = { square: "6 3", circle: undefined, triangle: "2 3" };

export function inkOf(shape: Shape): string {
  return INK[shape];
}

export function SignShape({ shape, x, y, size = 5, open = false }: { shape: Shape; x: number; y: number; size?: number; open?: boolean }) {
  const ink = INK[shape];
  const fill = open || shape !== "circle" ? "var(--sheet)" : ink;
  if (shape === "square")
    return <rect x={x - size} y={y - size} width={size * 2} height={size * 2} fill={fill} stroke={ink} strokeWidth="1.8" />;
  if (shape === "circle") return <circle cx={x} cy={y} r={size} fill={fill} stroke={ink} strokeWidth="1.8" />;
  return <path d={`M${x} ${y - size - 1}L${x + size + 1} ${y + size}H${x - size - 1}Z`} fill={fill} stroke={ink} strokeWidth="1.8" />;
}

export function Sign({ shape }: { shape: Shape }) {
  return (
    <svg width="14" height="14" aria-hidden="true" style={{ display: "inline-block", verticalAlign: -2, marginRight: 6 }}>
      <SignShape shape={shape} x={7} y={7} />
    </svg>
  );
}
