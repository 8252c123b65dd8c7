/** What the pages of proposals ask for. */
import { infiniteQueryOptions, queryOptions } from "@tanstack/react-query";
import { answer, api, type Schemas } from "../../api/client";
import { oneOf } from "../../api/given";

export type Proposal = Schemas["ProposalOut"];
export type Listed = Schemas["ProposalListed"];
export type Remark = Schemas["RemarkOut"];
export type Waiting = Schemas["WaitingOut"];

const ASK_AGAIN_MS = 20_000;

export const proposals = (key: string, state: string) =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "proposals", state],
    queryFn: ({ pageParam }) =>
      answer(
        api.GET("/shelves/{shelf}/proposals", {
          params: {
            path: { shelf: key },
            query: { state: oneOf(["open", "merged", "closed", "all"], state), cursor: pageParam || undefined },
          },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
  });

export const proposal = (key: string, number: number) =>
  queryOptions({
    queryKey: ["shelf", key, "proposal", number],
    queryFn: () => answer(api.GET("/shelves/{shelf}/proposals/{number}", { params: { path: { shelf: key, number } } })),
    refetchInterval: ASK_AGAIN_MS,
  });

export const waiting = () =>
  queryOptions({ queryKey: ["waiting"], queryFn: () => answer(api.GET("/waiting")), refetchInterval: ASK_AGAIN_MS });
