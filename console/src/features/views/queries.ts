import { get, type Schemas } from "../../api/client";

export type SavedView = Schemas["SavedViewAnswer"];

export const savedViews = (key: string) => ({
  queryKey: ["shelf", key, "views"],
  queryFn: () => get<SavedView[]>(`shelves/${key}/views`),
});
