/** A compared model's tensors and metrics, and pure functions that shape them for display. */
import type { Schemas } from "../../api/client";

export type TensorSide = Schemas["TensorForm"];
export type Distance = Schemas["TensorDistance"];
export type TensorRow = Schemas["TensorChange"];
export type Metric = Schemas["MetricChange"];
export type ComparedModel = Schemas["ModelAnswer"];
export type ShownTensor = Schemas["NamedTensor"];

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
