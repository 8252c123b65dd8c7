import { answer, api, type Schemas } from "../../api/client";

export type SavedView = Schemas["SavedViewAnswer"];

export const savedViews = (key: string) => ({
  queryKey: ["shelf", key, "views"],
  queryFn: () => answer(api.GET("/shelves/{shelf}/views", { params: { path: { shelf: key } } })),
});
