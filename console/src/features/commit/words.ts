/** What undoing and restoring do, in words. */
import type { Schemas } from "../../api/client";
import { count } from "../../marks/words";

/** What undoing a commit would do, as sentences. */
export function undoneIn(look: Schemas["Undoing"]): string {
  const told: string[] = [];
  if (look.back_count)
    told.push(
      `${count(look.back_count, "artifact")} ${look.back_count === 1 ? "goes" : "go"} back to what ${look.back_count === 1 ? "it was" : "they were"} before it.`,
    );
  if (look.combined_count)
    told.push(
      `${count(look.combined_count, "artifact")} changed since ${look.combined_count === 1 ? "keeps" : "keep"} that, and ${look.combined_count === 1 ? "loses" : "lose"} only what this commit did.`,
    );
  if (look.already) told.push(`${count(look.already, "artifact")} ${look.already === 1 ? "is" : "are"} as before already.`);
  if (look.open_count)
    told.push(
      `${count(look.open_count, "part")} changed again since ${look.open_count === 1 ? "is" : "are"} yours to settle; nothing is written before.`,
    );
  if (told.length === 0 || look.back_count + look.combined_count + look.open_count === 0) return `Nothing of it is left on ${look.branch}.`;
  const where = look.allowed
    ? `A new commit on ${look.branch} undoes it.`
    : `You may not commit to ${look.branch}: it is undone on a new branch, for a proposal.`;
  return [where, ...told].join(" ");
}

/** What restoring the state of a commit would do. */
export function restored(branch: string, places: Schemas["CommitPlaces"]): string {
  const later = places.later === 1 ? "the later commit" : `the ${places.later} later commits`;
  return `${branch} gets all ${count(places.restored, "artifact")} as they were then, in a new commit. The history keeps ${later}.`;
}
