import { useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useEffect } from "react";
import { Route, Routes } from "react-router";
import { CallError } from "../api/client";
import { Desk } from "../desk/Desk";
import { ProjectPage } from "../run/ProjectPage";
import { Loading } from "./Awaited";
import { Frame } from "./Frame";
import { listen } from "./live";
import { Notice } from "./Notice";
import { meQuery } from "./queries";
import { SignIn } from "./SignIn";

const FirstVisit = lazy(() => import("../plan/FirstVisit").then((m) => ({ default: m.FirstVisit })));
const Runners = lazy(() => import("../runners/Runners").then((m) => ({ default: m.Runners })));
const ProjectSettings = lazy(() => import("../settings/ProjectSettings").then((m) => ({ default: m.ProjectSettings })));
const FlakyTests = lazy(() => import("../tests/FlakyTests").then((m) => ({ default: m.FlakyTests })));
const TestPage = lazy(() => import("../tests/TestPage").then((m) => ({ default: m.TestPage })));
const Pulls = lazy(() => import("../pulls/Pulls").then((m) => ({ default: m.Pulls })));
const TrendsPage = lazy(() => import("../trends/TrendsPage").then((m) => ({ default: m.TrendsPage })));
const VersionsPage = lazy(() => import("../trends/VersionsPage").then((m) => ({ default: m.VersionsPage })));
const MorningPage = lazy(() => import("../morning/MorningPage").then((m) => ({ default: m.MorningPage })));
const ReleasesPage = lazy(() => import("../releases/ReleasesPage").then((m) => ({ default: m.ReleasesPage })));
const RankingsPage = lazy(() => import("../rankings/RankingsPage").then((m) => ({ default: m.RankingsPage })));
const ReportPage = lazy(() => import("../report/ReportPage").then((m) => ({ default: m.ReportPage })));
const SizesPage = lazy(() => import("../runners/SizesPage").then((m) => ({ default: m.SizesPage })));
const CostPage = lazy(() => import("../cost/CostPage").then((m) => ({ default: m.CostPage })));
const PastPage = lazy(() => import("../past/PastPage").then((m) => ({ default: m.PastPage })));
const Workbench = lazy(() => import("../plan/Workbench").then((m) => ({ default: m.Workbench })));

export function App() {
  return (
    <Routes>
      <Route path="/sign-in" element={<SignIn />} />
      <Route path="*" element={<SignedIn />} />
    </Routes>
  );
}

function SignedIn() {
  const me = useQuery(meQuery);
  if (me.isPending) return <Loading what="Myriant" />;
  if (me.error) {
    const signedOut = me.error instanceof CallError && me.error.status === 401;
    return (
      <Notice title={signedOut ? "You are not signed in" : "The server does not answer"}>
        {signedOut ? (
          <>
            Run <code>myriant sign-in</code> on the server&apos;s machine and open the link it prints.
          </>
        ) : (
          me.error.message
        )}
      </Notice>
    );
  }
  return <Inside />;
}

function Inside() {
  const client = useQueryClient();
  useEffect(() => {
    const stop = new AbortController();
    listen(client, stop.signal);
    return () => stop.abort();
  }, [client]);
  return (
    <Frame>
      <Suspense fallback={<Loading what="This page" rows={6} />}>
      <Routes>
        <Route path="/" element={<Desk />} />
        <Route path="/add" element={<FirstVisit empty={false} />} />
        <Route path="/runners" element={<Runners />} />
        <Route path="/sizes" element={<SizesPage />} />
        <Route path="/p/:project/report" element={<ReportPage />} />
        <Route path="/p/:project/settings" element={<ProjectSettings />} />
        <Route path="/p/:project/tests/:test" element={<TestPage />} />
        <Route path="/p/:project/flaky" element={<FlakyTests />} />
        <Route path="/p/:project/pulls" element={<Pulls />} />
        <Route path="/p/:project/trends" element={<TrendsPage />} />
        <Route path="/p/:project/versions" element={<VersionsPage />} />
        <Route path="/p/:project/past" element={<PastPage />} />
        <Route path="/p/:project/releases" element={<ReleasesPage />} />
        <Route path="/p/:project/rankings" element={<RankingsPage />} />
        <Route path="/p/:project/cost" element={<CostPage />} />
        <Route path="/p/:project/morning" element={<MorningPage />} />
        <Route path="/p/:project/plan" element={<Workbench />} />
        <Route path="/p/:project" element={<ProjectPage />} />
        <Route path="/p/:project/runs/:run" element={<ProjectPage />} />
        <Route path="*" element={<Notice title="There is nothing at this address">The list of projects is at the desk.</Notice>} />
      </Routes>
      </Suspense>
    </Frame>
  );
}
