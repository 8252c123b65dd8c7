/** What plots of runs share; pure. */
import type { Shape } from "./model";

export interface Branch {
  name: string;
  shape: Shape;
}

/** From the least to the greatest with some room on either side, so that no point lies on the frame. */
export function padded(values: number[]): [number, number] {
  const low = values.length ? Math.min(...values) : 0;
  const high = values.length ? Math.max(...values) : 1;
  const room = (high - low || Math.abs(high) || 1) * 0.08;
  return [low - room, high + room];
}
