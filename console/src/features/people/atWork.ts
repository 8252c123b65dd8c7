/** Whether the newest job of its kind has not ended. */

import type { Schemas } from "../../api/client";

export function isAtWork(found: { job: Schemas["StorageOut"]["job"] } | undefined): boolean {
  return found?.job?.state === "waiting" || found?.job?.state === "running";
}
