import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { Tooltip } from "radix-ui";
import { lazy, StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Route, Routes } from "react-router";
import { Problem } from "../api/client";
import { SharedPage } from "../features/pass/SharedPage";
import { AccountsPage } from "../features/people/AccountsPage";
import { MePage } from "../features/people/MePage";
import { CausePage } from "../features/defects/CausePage";
import { DefectsPage } from "../features/defects/DefectsPage";
import { SharesPage } from "../features/pass/SharesPage";
import { HearsPage } from "../features/pass/HearsPage";
import { AsidePage } from "../features/trends/AsidePage";
import { BesidePage } from "../features/beside/BesidePage";
import { ComparePage } from "../features/compare/ComparePage";
import { OverviewPage } from "../features/overview/OverviewPage";
import { SlowPage } from "../features/trends/SlowPage";
import { UnsteadyPage } from "../features/trends/UnsteadyPage";
import { BisectPage } from "../features/bisect/BisectPage";
import { BisectsPage } from "../features/bisect/BisectsPage";
import { BrowsersPage } from "../features/fleet/BrowsersPage";
import { FleetPage } from "../features/fleet/FleetPage";
import { RelaysPage } from "../features/fleet/RelaysPage";
import { MatrixPage } from "../features/matrix/MatrixPage";
import { SchedulesPage } from "../features/schedules/SchedulesPage";
import { ForecastPage } from "../features/run/ForecastPage";
import { AuditPage } from "../features/people/AuditPage";
import { SecretsPage } from "../features/people/SecretsPage";
import { TokensPage } from "../features/people/TokensPage";
import { RunPage } from "../features/run/RunPage";
import { TimelinePage } from "../features/run/TimelinePage";
import { RunsPage } from "../features/runs/RunsPage";
import { KeepPage } from "../features/keep/KeepPage";
import { ConnectPage } from "../features/connect/ConnectPage";
import { SessionPage } from "../features/session/SessionPage";
import { SessionsPage } from "../features/sessions/SessionsPage";
import { StartPage } from "../features/start/StartPage";
import { TestPage } from "../features/test/TestPage";
import { Frame, Nowhere } from "./Frame";
import "./theme.css";

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 10_000,
      retry: (n, e) => n < 2 && e instanceof Problem && (e.status === 0 || e.status >= 500),
    },
  },
});

const TrendsPage = lazy(() =>
  import("../features/trends/TrendsPage").then((m) => ({ default: m.TrendsPage })),
);
const LabPage = lazy(() => import("../features/trends/LabPage").then((m) => ({ default: m.LabPage })));

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <Tooltip.Provider delayDuration={150}>
          <BrowserRouter>
            <Routes>
              <Route path="shared" element={<SharedPage />} />
              <Route element={<Frame />}>
                <Route index element={<OverviewPage />} />
                <Route path="runs" element={<RunsPage />} />
                <Route path="trends" element={<TrendsPage />} />
                <Route path="trends/lab" element={<LabPage />} />
                <Route path="trends/slow" element={<SlowPage />} />
                <Route path="runs/:number" element={<RunPage />} />
                <Route path="runs/:number/timeline" element={<TimelinePage />} />
                <Route path="runs/:number/forecast" element={<ForecastPage />} />
                <Route path="aside" element={<AsidePage />} />
                <Route path="compare" element={<ComparePage />} />
                <Route path="runs/:number/tests/:test/beside" element={<BesidePage />} />
                <Route path="unsteady" element={<UnsteadyPage />} />
                <Route path="runs/:number/causes/:cause" element={<CausePage />} />
                <Route path="defects" element={<DefectsPage />} />
                <Route path="bisects" element={<BisectsPage />} />
                <Route path="bisects/:id" element={<BisectPage />} />
                <Route path="sessions" element={<SessionsPage />} />
                <Route path="sessions/:id" element={<SessionPage />} />
                <Route path="recordings" element={<KeepPage />} />
                <Route path="connect" element={<ConnectPage />} />
                <Route path="start" element={<StartPage />} />
                <Route path="matrix" element={<MatrixPage />} />
                <Route path="schedules" element={<SchedulesPage />} />
                <Route path="people/hears" element={<HearsPage />} />
                <Route path="people/shares" element={<SharesPage />} />
                <Route path="people" element={<TokensPage />} />
                <Route path="people/me" element={<MePage />} />
                <Route path="people/accounts" element={<AccountsPage />} />
                <Route path="people/audit" element={<AuditPage />} />
                <Route path="people/secrets" element={<SecretsPage />} />
                <Route path="fleet" element={<FleetPage />} />
                <Route path="fleet/browsers" element={<BrowsersPage />} />
                <Route path="fleet/relays" element={<RelaysPage />} />
                <Route path="runs/:number/tests/:test" element={<TestPage />} />
                <Route path="*" element={<Nowhere />} />
              </Route>
            </Routes>
          </BrowserRouter>
        </Tooltip.Provider>
      </QueryClientProvider>
    </StrictMode>,
  );
}
