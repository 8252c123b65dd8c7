/** What the pages of proposals ask for. */
import { queryOptions } from "@tanstack/react-query";
import { get, type Schemas } from "../../api/client";

export type Proposal = Schemas["ProposalOut"];
export type Listed = Schemas["ProposalListed"];
export type Remark = Schemas["RemarkOut"];
export type Waiting = Schemas["WaitingOut"];

const ASK_AGAIN_MS = 20_000;

export const proposals = (key: string, state: string) =>
  queryOptions({
    queryKey: ["shelf", key, "proposals", state],
    queryFn: () => get<Listed[]>(`shelves/${key}/proposals`, { state }),
  });

export const proposal = (key: string, number: number) =>
  queryOptions({
    queryKey: ["shelf", key, "proposal", number],
    queryFn: () => get<Proposal>(`shelves/${key}/proposals/${number}`),
    refetchInterval: ASK_AGAIN_MS,
  });

export const waiting = () =>
  queryOptions({ queryKey: ["waiting"], queryFn: () => get<Waiting[]>("waiting"), refetchInterval: ASK_AGAIN_MS });
