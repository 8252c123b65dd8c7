import { GlobalStyles } from "@mui/material";
import { StyledEngineProvider, ThemeProvider } from "@mui/material/styles";
import { QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { ProblemError, SIGNED_OUT } from "./api/client";
import { session, shelf } from "./api/queries";
import { SignIn, SignInAgain } from "./features/session/SignIn";
import { ShelvesPage } from "./features/shelves/ShelvesPage";
import { Patterns } from "./marks/spines";
import { later } from "./parts/later";
import { routes } from "./routes";
import { DoneProvider } from "./shell/Done";
import { FindKey } from "./shell/FindKey";
import { PageLoading, ProblemBox } from "./shell/states";
import { WorkedOut } from "./shell/WorkedOut";
import { theme } from "./theme";
import { variables } from "./tokens";

const GoTo = later(() => import("./shell/GoTo"));
const JoinPage = later(
  async () => ({ default: (await import("./features/people/JoinPage")).JoinPage }),
  <PageLoading what="Opening the page" />,
);

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (tries, error) => tries < 2 && !(error instanceof ProblemError && (error.problem.status ?? 500) < 500),
      staleTime: 3_000,
    },
  },
});

// Both at once, not one after another.
void queries.prefetchQuery(session());
const key = /^\/s\/([^/]+)/.exec(window.location.pathname)?.[1];
if (key) void queries.prefetchQuery(shelf(key));

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
  const person = who.data?.person?.name;
  const [was, setWas] = useState<string>();
  if (person && person !== was) setWas(person);
  useEffect(() => {
    const ask = () => void queries.invalidateQueries({ queryKey: ["session"] });
    window.addEventListener(SIGNED_OUT, ask);
    return () => window.removeEventListener(SIGNED_OUT, ask);
  }, []);
  // What was answered before counts while the service is out of reach: the page stays.
  if (!who.data) return who.isError ? <ProblemBox error={who.error} /> : <PageLoading what="Asking who you are" />;
  if (window.location.pathname === "/join") return <JoinPage />;
  if (!person && !was) return <SignIn />;
  return (
    <>
      {!person && was && <SignInAgain person={was} />}
      <FindKey />
      <GoTo />
      <SkipLink />
      <Routes>
        <Route path="/" element={<ShelvesPage />} />
        {routes.map(({ path, Page }) => (
          <Route key={path} path={path} element={<Page />} />
        ))}
        <Route path="*" element={<Navigate to="/" replace />} />
      </Routes>
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
