/** How much of what all versions would take is taken, in percent, between 1 and 100, so that a bar is seen. */
export function shareTaken(stored: number, whole: number): number {
  return whole > 0 ? Math.min(100, Math.max(1, Math.round((100 * stored) / whole))) : 100;
}
