/** What is shown of the chosen environment, below its route. */
export const PANELS = ["rehearsal", "drift", "bindings", "settings", "beside"] as const;
export type Panel = (typeof PANELS)[number];
