/** What the page of webhooks asks for. */
import { infiniteQueryOptions, queryOptions } from "@tanstack/react-query";
import { answer, api, type Schemas } from "../../api/client";
import { oneOf } from "../../api/given";

export type Webhook = Schemas["WebhookAnswer"];
export type Delivery = Schemas["DeliveryAnswer"];

const LOOK_MS = 3000;

export const webhooks = (key: string) =>
  queryOptions({
    queryKey: ["shelf", key, "webhooks"],
    queryFn: async () => (await answer(api.GET("/shelves/{shelf}/webhooks", { params: { path: { shelf: key } } }))).webhooks,
    refetchInterval: LOOK_MS,
  });

export const deliveries = (key: string, name: string, state: string) =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "webhooks", name, state],
    queryFn: ({ pageParam }) =>
      answer(
        api.GET("/shelves/{shelf}/webhooks/{webhook}/deliveries", {
          params: {
            path: { shelf: key, webhook: name },
            query: {
              state: oneOf(["waiting", "done", "failed"], state),
              cursor: pageParam || undefined,
            },
          },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
    refetchInterval: LOOK_MS,
  });
