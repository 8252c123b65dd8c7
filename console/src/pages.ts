/** Which address shows which page; each page is fetched when it is opened. */
import type { ComponentType } from "react";

export const PAGES: [string, () => Promise<{ default: ComponentType }>][] = [
  ["/find", () => import("./features/find/FindPage").then((page) => ({ default: page.FindPage }))],
  ["/s/:key", () => import("./features/shelf/ShelfPage").then((page) => ({ default: page.ShelfPage }))],
  ["/s/:key/artifact", () => import("./features/artifact/ArtifactPage").then((page) => ({ default: page.ArtifactPage }))],
  ["/s/:key/version", () => import("./features/version/VersionPage").then((page) => ({ default: page.VersionPage }))],
  ["/s/:key/compare", () => import("./features/compare/ComparePage").then((page) => ({ default: page.ComparePage }))],
  ["/s/:key/commit/:commit", () => import("./features/commit/CommitPage").then((page) => ({ default: page.CommitPage }))],
  ["/s/:key/query", () => import("./features/query/QueryPage").then((page) => ({ default: page.QueryPage }))],
  ["/s/:key/history", () => import("./features/history/HistoryPage").then((page) => ({ default: page.HistoryPage }))],
  ["/s/:key/branches", () => import("./features/branches/BranchesPage").then((page) => ({ default: page.BranchesPage }))],
  ["/tokens", () => import("./features/people/TokensPage").then((page) => ({ default: page.TokensPage }))],
  ["/account", () => import("./features/people/AccountPage").then((page) => ({ default: page.AccountPage }))],
  ["/s/:key/proposals", () => import("./features/proposals/ProposalsPage").then((page) => ({ default: page.ProposalsPage }))],
  ["/s/:key/proposals/:number", () => import("./features/proposals/ProposalPage").then((page) => ({ default: page.ProposalPage }))],
  ["/s/:key/experiments", () => import("./features/experiments/ExperimentsPage").then((page) => ({ default: page.ExperimentsPage }))],
  [
    "/s/:key/experiments/:experiment",
    () => import("./features/experiments/ExperimentPage").then((page) => ({ default: page.ExperimentPage })),
  ],
  ["/s/:key/people", () => import("./features/people/PeoplePage").then((page) => ({ default: page.PeoplePage }))],
  ["/s/:key/in-place", () => import("./features/inplace/InPlacePage").then((page) => ({ default: page.InPlacePage }))],
  ["/s/:key/git", () => import("./features/git/GitPage").then((page) => ({ default: page.GitPage }))],
  ["/s/:key/first-steps", () => import("./features/start/FirstStepsPage").then((page) => ({ default: page.FirstStepsPage }))],
  ["/s/:key/news", () => import("./features/news/NewsPage").then((page) => ({ default: page.NewsPage }))],
  ["/s/:key/tasks", () => import("./features/tasks/TasksPage").then((page) => ({ default: page.TasksPage }))],
  ["/s/:key/webhooks", () => import("./features/events/WebhooksPage").then((page) => ({ default: page.WebhooksPage }))],
  ["/s/:key/log", () => import("./features/people/LogPage").then((page) => ({ default: page.LogPage }))],
  ["/s/:key/settle/:merge", () => import("./features/settle/SettlePage").then((page) => ({ default: page.SettlePage }))],
  ["/s/:key/environments", () => import("./features/environments/EnvironmentsPage").then((page) => ({ default: page.EnvironmentsPage }))],
  ["/s/:key/pending", () => import("./features/pending/PendingPage").then((page) => ({ default: page.PendingPage }))],
];

/** Begin to fetch the page at an address. */
export function fetchPage(pathname: string): void {
  const steps = pathname.split("/");
  const fits = (pattern: string[]) =>
    pattern.length === steps.length && pattern.every((one, place) => one === steps[place] || (one.startsWith(":") && steps[place] !== ""));
  const [, load] = PAGES.find(([pattern]) => fits(pattern.split("/"))) ?? [];
  load?.().catch(() => undefined); // when it is shown it is asked for again
}
