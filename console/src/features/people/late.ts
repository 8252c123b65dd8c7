const HOUR_MS = 3_600_000;

/** Whether the newest backup is older than the schedule and an hour for its making; without a schedule none is. */
export function isLate(made: string, hours: number, now: Date): boolean {
  return hours > 0 && now.getTime() - new Date(made).getTime() > (hours + 1) * HOUR_MS;
}
