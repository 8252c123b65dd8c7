/** What the page of webhooks asks for. */
import { infiniteQueryOptions, queryOptions } from "@tanstack/react-query";
import { get, type Schemas } from "../../api/client";

export type Webhook = Schemas["WebhookAnswer"];
export type Delivery = Schemas["DeliveryAnswer"];

const LOOK_MS = 3000;

export const webhooks = (key: string) =>
  queryOptions({
    queryKey: ["shelf", key, "webhooks"],
    queryFn: async () => (await get<{ webhooks: Webhook[] }>(`shelves/${key}/webhooks`)).webhooks,
    refetchInterval: LOOK_MS,
  });

export const deliveries = (key: string, name: string, state: string) =>
  infiniteQueryOptions({
    queryKey: ["shelf", key, "webhooks", name, state],
    queryFn: ({ pageParam }) =>
      get<Schemas["DeliveryPage"]>(`shelves/${key}/webhooks/${name}/deliveries`, {
        state: state || undefined,
        cursor: pageParam || undefined,
      }),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
    refetchInterval: LOOK_MS,
  });
