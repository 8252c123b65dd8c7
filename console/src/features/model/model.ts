/** A compared model's tensors and metrics, and pure functions that shape them for display. */
export interface TensorSide {
  shape: string;
  type: string;
  values: number;
}
export interface Distance {
  relative: number | null;
  largest: number;
  share: number;
  within: [number, number];
  bins: number[];
}
export interface TensorRow {
  name: string;
  state: "equal" | "changed" | "added" | "removed";
  before?: TensorSide;
  after?: TensorSide;
  distance?: Distance | null;
}
export interface Metric {
  file: string;
  name: string;
  before: number | string | null;
  after: number | string | null;
  better: boolean | null;
}
export interface ComparedModel {
  tensors: TensorRow[];
  truncated: boolean;
  counts: Record<TensorRow["state"], number>;
  values: Record<"before" | "after", number>;
  metrics: Metric[];
}
export interface ShownTensor {
  name: string;
  shape: string;
  type: string;
  values: number;
}

const FAINTEST = 1e-6;

/** Where on a scale of powers of ten, from a millionth to all of it, a relative change lies: 0 to 1. */
export function far(relative: number | null | undefined): number {
  if (relative === null || relative === undefined || relative <= 0) return 0;
  const place = 1 + Math.log10(relative) / -Math.log10(FAINTEST);
  return Math.min(1, Math.max(0.02, place));
}

export function percent(share: number | null | undefined): string {
  if (share === null || share === undefined) return "";
  if (share > 0 && share < 0.0001) return "under 0.01 %";
  return `${Number((share * 100).toPrecision(3))} %`;
}

export function small(value: number): string {
  if (value === 0) return "0";
  return Math.abs(value) < 0.001 || Math.abs(value) >= 100_000 ? value.toExponential(2) : String(Number(value.toPrecision(3)));
}
