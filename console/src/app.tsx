import { GlobalStyles } from "@mui/material";
import { StyledEngineProvider, ThemeProvider } from "@mui/material/styles";
import { QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { ProblemError } from "./api/client";
import { session } from "./api/queries";
import { SignIn } from "./features/session/SignIn";
import { ShelvesPage } from "./features/shelves/ShelvesPage";
import { Patterns } from "./marks/spines";
import { DoneProvider } from "./shell/Done";
import { FindKey } from "./shell/FindKey";
import { PageLoading, ProblemBox } from "./shell/states";
import { WorkedOut } from "./shell/WorkedOut";
import { theme } from "./theme";
import { variables } from "./tokens";

// Each page is fetched when it is opened.
const GoTo = lazy(() => import("./shell/GoTo"));
const VersionPage = lazy(() => import("./features/version/VersionPage").then((page) => ({ default: page.VersionPage })));
const ArtifactPage = lazy(() => import("./features/artifact/ArtifactPage").then((page) => ({ default: page.ArtifactPage })));
const BranchesPage = lazy(() => import("./features/branches/BranchesPage").then((page) => ({ default: page.BranchesPage })));
const NewsPage = lazy(() => import("./features/news/NewsPage").then((page) => ({ default: page.NewsPage })));
const CommitPage = lazy(() => import("./features/commit/CommitPage").then((page) => ({ default: page.CommitPage })));
const ComparePage = lazy(() => import("./features/compare/ComparePage").then((page) => ({ default: page.ComparePage })));
const EnvironmentsPage = lazy(() =>
  import("./features/environments/EnvironmentsPage").then((page) => ({ default: page.EnvironmentsPage })),
);
const WebhooksPage = lazy(() => import("./features/events/WebhooksPage").then((page) => ({ default: page.WebhooksPage })));
const ExperimentPage = lazy(() => import("./features/experiments/ExperimentPage").then((page) => ({ default: page.ExperimentPage })));
const ExperimentsPage = lazy(() => import("./features/experiments/ExperimentsPage").then((page) => ({ default: page.ExperimentsPage })));
const FindPage = lazy(() => import("./features/find/FindPage").then((page) => ({ default: page.FindPage })));
const GitPage = lazy(() => import("./features/git/GitPage").then((page) => ({ default: page.GitPage })));
const HistoryPage = lazy(() => import("./features/history/HistoryPage").then((page) => ({ default: page.HistoryPage })));
const PendingPage = lazy(() => import("./features/pending/PendingPage").then((page) => ({ default: page.PendingPage })));
const JoinPage = lazy(() => import("./features/people/JoinPage").then((page) => ({ default: page.JoinPage })));
const LogPage = lazy(() => import("./features/people/LogPage").then((page) => ({ default: page.LogPage })));
const PeoplePage = lazy(() => import("./features/people/PeoplePage").then((page) => ({ default: page.PeoplePage })));
const AccountPage = lazy(() => import("./features/people/AccountPage").then((page) => ({ default: page.AccountPage })));
const TokensPage = lazy(() => import("./features/people/TokensPage").then((page) => ({ default: page.TokensPage })));
const ProposalPage = lazy(() => import("./features/proposals/ProposalPage").then((page) => ({ default: page.ProposalPage })));
const ProposalsPage = lazy(() => import("./features/proposals/ProposalsPage").then((page) => ({ default: page.ProposalsPage })));
const SettlePage = lazy(() => import("./features/settle/SettlePage").then((page) => ({ default: page.SettlePage })));
const ShelfPage = lazy(() => import("./features/shelf/ShelfPage").then((page) => ({ default: page.ShelfPage })));
const TasksPage = lazy(() => import("./features/tasks/TasksPage").then((page) => ({ default: page.TasksPage })));

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (tries, error) => tries < 2 && !(error instanceof ProblemError && (error.problem.status ?? 500) < 500),
      staleTime: 3_000,
    },
  },
});

const COLOURS = {
  ":root": { colorScheme: "light", ...variables("light") },
  '[data-theme="dark"]': { colorScheme: "dark", ...variables("dark") },
};

export function App() {
  return (
    // The components' own styles come first, so that look.css has the last word.
    <StyledEngineProvider injectFirst>
      <ThemeProvider theme={theme}>
        <GlobalStyles styles={COLOURS} />
        <QueryClientProvider client={queries}>
          <Patterns />
          <WorkedOut />
          <BrowserRouter>
            <DoneProvider>
              <Gate />
            </DoneProvider>
          </BrowserRouter>
        </QueryClientProvider>
      </ThemeProvider>
    </StyledEngineProvider>
  );
}

function Gate() {
  const who = useQuery(session());
  if (who.isPending) return <PageLoading what="Asking who you are" />;
  if (who.isError) return <ProblemBox error={who.error} />;
  if (window.location.pathname === "/join")
    return (
      <Suspense fallback={<PageLoading what="Opening the page" />}>
        <JoinPage />
      </Suspense>
    );
  if (!who.data.person) return <SignIn />;
  return (
    <>
      <FindKey />
      <Suspense fallback={null}>
        <GoTo />
      </Suspense>
      <Suspense fallback={<PageLoading what="Opening the page" />}>
        <SkipLink />
        <Routes>
          <Route path="/" element={<ShelvesPage />} />
          <Route path="/find" element={<FindPage />} />
          <Route path="/s/:key" element={<ShelfPage />} />
          <Route path="/s/:key/artifact" element={<ArtifactPage />} />
          <Route path="/s/:key/version" element={<VersionPage />} />
          <Route path="/s/:key/compare" element={<ComparePage />} />
          <Route path="/s/:key/commit/:commit" element={<CommitPage />} />
          <Route path="/s/:key/history" element={<HistoryPage />} />
          <Route path="/s/:key/branches" element={<BranchesPage />} />
          <Route path="/tokens" element={<TokensPage />} />
          <Route path="/account" element={<AccountPage />} />
          <Route path="/s/:key/proposals" element={<ProposalsPage />} />
          <Route path="/s/:key/proposals/:number" element={<ProposalPage />} />
          <Route path="/s/:key/experiments" element={<ExperimentsPage />} />
          <Route path="/s/:key/experiments/:experiment" element={<ExperimentPage />} />
          <Route path="/s/:key/people" element={<PeoplePage />} />
          <Route path="/s/:key/git" element={<GitPage />} />
          <Route path="/s/:key/news" element={<NewsPage />} />
          <Route path="/s/:key/tasks" element={<TasksPage />} />
          <Route path="/s/:key/webhooks" element={<WebhooksPage />} />
          <Route path="/s/:key/log" element={<LogPage />} />
          <Route path="/s/:key/settle/:merge" element={<SettlePage />} />
          <Route path="/s/:key/environments" element={<EnvironmentsPage />} />
          <Route path="/s/:key/pending" element={<PendingPage />} />
          <Route path="*" element={<Navigate to="/" replace />} />
        </Routes>
      </Suspense>
    </>
  );
}

/** First of all that Tab reaches, seen only then: past the strip and the tabs to what the page is about. */
function SkipLink() {
  return (
    <a className="skip" href="#page">
      Skip to the page
    </a>
  );
}
