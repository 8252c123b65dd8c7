import { ThemeProvider } from "@mui/material/styles";
import { QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { ProblemError } from "./api/client";
import { session } from "./api/queries";
import { VersionPage } from "./features/version/VersionPage";
import { ArtifactPage } from "./features/artifact/ArtifactPage";
import { BranchesPage } from "./features/branches/BranchesPage";
import { CommitPage } from "./features/commit/CommitPage";
import { ComparePage } from "./features/compare/ComparePage";
import { EnvironmentsPage } from "./features/environments/EnvironmentsPage";
import { WebhooksPage } from "./features/events/WebhooksPage";
import { ExperimentPage } from "./features/experiments/ExperimentPage";
import { ExperimentsPage } from "./features/experiments/ExperimentsPage";
import { FindPage } from "./features/find/FindPage";
import { GitPage } from "./features/git/GitPage";
import { HistoryPage } from "./features/history/HistoryPage";
import { PendingPage } from "./features/pending/PendingPage";
import { JoinPage } from "./features/people/JoinPage";
import { LogPage } from "./features/people/LogPage";
import { PeoplePage } from "./features/people/PeoplePage";
import { AccountPage } from "./features/people/AccountPage";
import { TokensPage } from "./features/people/TokensPage";
import { ProposalPage } from "./features/proposals/ProposalPage";
import { ProposalsPage } from "./features/proposals/ProposalsPage";
import { SettlePage } from "./features/settle/SettlePage";
import { SignIn } from "./features/session/SignIn";
import { ShelfPage } from "./features/shelf/ShelfPage";
import { ShelvesPage } from "./features/shelves/ShelvesPage";
import { TasksPage } from "./features/tasks/TasksPage";
import { Patterns } from "./marks/spines";
import { FindKey } from "./shell/FindKey";
import { Loading, ProblemBox } from "./shell/states";
import { WorkedOut } from "./shell/WorkedOut";
import { theme } from "./theme";

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (tries, error) => tries < 2 && !(error instanceof ProblemError && (error.problem.status ?? 500) < 500),
      staleTime: 3_000,
    },
  },
});

export function App() {
  return (
    <ThemeProvider theme={theme}>
      <QueryClientProvider client={queries}>
        <Patterns />
        <WorkedOut />
        <BrowserRouter>
          <Gate />
        </BrowserRouter>
      </QueryClientProvider>
    </ThemeProvider>
  );
}

function Gate() {
  const who = useQuery(session());
  if (who.isPending) return <Loading what="Asking who you are" />;
  if (who.isError) return <ProblemBox error={who.error} />;
  if (window.location.pathname === "/join") return <JoinPage />;
  if (!who.data.person) return <SignIn />;
  return (
    <>
    <FindKey />
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
      <Route path="/s/:key/tasks" element={<TasksPage />} />
      <Route path="/s/:key/webhooks" element={<WebhooksPage />} />
      <Route path="/s/:key/log" element={<LogPage />} />
      <Route path="/s/:key/settle/:merge" element={<SettlePage />} />
      <Route path="/s/:key/environments" element={<EnvironmentsPage />} />
      <Route path="/s/:key/pending" element={<PendingPage />} />
      <Route path="*" element={<Navigate to="/" replace />} />
    </Routes>
    </>
  );
}
