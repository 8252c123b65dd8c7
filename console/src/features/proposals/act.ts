import type { UseMutationResult } from "@tanstack/react-query";
import type { Proposal } from "./queries";

/** Something done to a proposal, given as the call; the answer is the proposal as it stands then. */
export type Act = UseMutationResult<Proposal, Error, () => Promise<Proposal>>;
