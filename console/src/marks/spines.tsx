/** Spines: kind is shape and texture, width is size, tone is recency. The same shapes at 16 × 18 are the kind icons. */
import type { ReactNode } from "react";

const HEIGHTS: Record<string, number> = {
  pipeline: 105,
  workflow: 96,
  dataset: 119,
  model: 120,
  notebook: 101,
  tests: 91,
  app: 85,
  database: 119,
  document: 106,
  spreadsheet: 106,
  script: 78,
  report: 99,
  api: 92,
  settings: 72,
  archive: 88,
  picture: 80,
  opaque: 89,
};

export function spineWidth(bytes: number): number {
  return Math.max(9, Math.min(46, 9 + 5.2 * Math.log10(Math.max(bytes, 1) / 1000)));
}

export function spineHeight(kind: string): number {
  return HEIGHTS[kind] ?? 89;
}

/** Drawn with its foot at y = 0, upwards, from x = 0; h positive. */
export function SpineShape({ kind, w, h, tone }: { kind: string; w: number; h: number; tone: 0 | 1 | 2 | 3 }) {
  const body = `sp${tone}`;
  const line = `tx${tone}`;
  const label = `pl${tone}`;
  const box = <rect x={0} y={-h} width={w} height={h} rx={0.8} className={body} />;
  const rules = (ys: number[]) => ys.map((y) => <path key={y} d={`M0 ${y}H${w}`} className={line} />);
  const shapes: Record<string, ReactNode> = {
    pipeline: (
      <>
        {box}
        {[-h * 0.88, -h * 0.13].map((y) => (
          <rect key={y} x={-0.9} y={y - 2} width={w + 1.8} height={4} className={body} />
        ))}
      </>
    ),
    workflow: (
      <>
        <path d={`M0 0V${-h}H${w * 0.4}L${w} ${-h + Math.min(14, h * 0.2)}V0Z`} className={body} />
        {[0.06, 0.11, 0.16].map((f) => (
          <path key={f} d={`M${w * 0.15} ${-h * f}L${w * 0.85} ${-h * f - 4}`} className={line} />
        ))}
      </>
    ),
    dataset: (
      <>
        {box}
        {rules([-h + 5, -h + 9, -9, -5])}
      </>
    ),
    model: (
      <>
        <path d={`M0 0V${-h + w * 0.45}Q0 ${-h} ${w / 2} ${-h}Q${w} ${-h} ${w} ${-h + w * 0.45}V0Z`} className={body} />
        <path
          d={`M2 ${-h * 0.86}Q${w / 2} ${-h * 0.96} ${w - 2} ${-h * 0.86}M2 ${-h * 0.8}Q${w / 2} ${-h * 0.9} ${w - 2} ${-h * 0.8}`}
          className={line}
        />
      </>
    ),
    notebook: (
      <>
        {box}
        {Array.from({ length: Math.max(2, Math.floor(h / 12)) }, (_, i) => (
          <circle key={i} cx={3} cy={-h + 6 + i * 12} r={1} className={label} />
        ))}
      </>
    ),
    tests: (
      <path
        d={`M0 0V${-h + 5}${[0.25, 0.5, 0.75, 1].map((f) => `L${w * (f - 0.125)} ${-h}L${w * f} ${-h + 5}`).join("")}V0Z`}
        className={body}
      />
    ),
    app: (
      <>
        <rect x={0} y={-h} width={w} height={h} rx={Math.min(6, w / 3)} className={body} />
        <rect x={w * 0.28} y={-h + 6} width={w * 0.44} height={Math.min(9, h * 0.3)} rx={1.5} className={label} />
      </>
    ),
    database: (
      <>
        <path d={`M0 0V${-h + 4}Q${w / 2} ${-h - 3} ${w} ${-h + 4}V0Q${w / 2} 4 0 0Z`} className={body} />
        <path d={`M0 ${-h + 7}Q${w / 2} ${-h + 13} ${w} ${-h + 7}`} className={line} />
      </>
    ),
    document: (
      <>
        {box}
        <rect x={w * 0.15} y={-h * 0.86} width={w * 0.7} height={h * 0.18} className={label} />
      </>
    ),
    spreadsheet: (
      <>
        {box}
        <rect x={w * 0.15} y={-h * 0.86} width={w * 0.7} height={h * 0.18} className={label} />
        <path d={`M${w / 2} ${-h * 0.86}V${-h * 0.68}M${w * 0.15} ${-h * 0.77}H${w * 0.85}`} className="tx0" />
      </>
    ),
    script: (
      <>
        {box}
        <path d={`M${w / 2} ${-h + 5}V-5`} className={line} strokeDasharray="1.5 3" />
      </>
    ),
    report: <path d={`M0 0V${-h + Math.min(10, h * 0.15)}L${w} ${-h}V0Z`} className={body} />,
    api: <path d={`M0 0V${-h}H${w * 0.5}V${-h * 0.75}H${w}V0Z`} className={body} />,
    settings: <path d={`M0 0V${-h}H${w}V${-h * 0.6}L${w * 0.72} ${-h * 0.52}L${w} ${-h * 0.44}V0Z`} className={body} />,
    archive: (
      <>
        {box}
        <path d={`M${w * 0.35} 0V${-h}M${w * 0.65} 0V${-h}`} className={line} />
      </>
    ),
    picture: (
      <>
        {box}
        <rect x={w * 0.2} y={-h * 0.9} width={w * 0.6} height={h * 0.8} className={line} />
      </>
    ),
    opaque: (
      <>
        <rect x={0} y={-h} width={w} height={h} className="sp0" />
        <rect x={0} y={-h} width={w} height={h} fill="url(#crosshatch)" />
      </>
    ),
  };
  return <>{shapes[kind] ?? shapes.opaque}</>;
}

export function KindIcon({ kind, tone = 1 }: { kind: string; tone?: 0 | 1 | 2 | 3 }) {
  return (
    <svg className="ki" viewBox="-1 -18 16 19" aria-hidden="true">
      <SpineShape kind={kind} w={13} h={16} tone={tone} />
    </svg>
  );
}

export function Patterns() {
  return (
    <svg width="0" height="0" style={{ position: "absolute" }} aria-hidden="true">
      <defs>
        <pattern id="crosshatch" width="5" height="5" patternUnits="userSpaceOnUse">
          <path d="M0 0L5 5M5 0L0 5" stroke="var(--line-strong)" strokeWidth=".8" />
        </pattern>
      </defs>
    </svg>
  );
}
