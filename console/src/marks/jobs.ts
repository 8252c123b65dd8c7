/** Whether a job has not ended. */

import type { Schemas } from "../api/client";

type Job = Schemas["StorageOut"]["job"];

export function isRunning(job: Job | undefined): boolean {
  return job?.state === "waiting" || job?.state === "running";
}

/** The newest job of something that has one. */
export function isAtWork(found: { job: Job } | undefined): boolean {
  return isRunning(found?.job);
}
