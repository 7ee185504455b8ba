import { useQueryClient } from "@tanstack/react-query";
import { useEffect, type ReactNode } from "react";
import { Route, Routes, useLocation } from "react-router";
import { Problem, setCsrf } from "./api/client";
import { useSession } from "./api/queries";
import { Empty, Loading, PageHead, Trouble } from "./components/ui";
import { ApiPage } from "./pages/api";
import { ChangesPage } from "./pages/changes";
import { MigrationPage } from "./pages/migration";
import { MigrationsPage } from "./pages/migrations";
import { NamespacePage } from "./pages/namespace";
import { NamespacesPage } from "./pages/namespaces";
import { OverviewPage } from "./pages/overview";
import { BrowsePage } from "./pages/browse";
import { PlanPage } from "./pages/plan";
import { ReplicaSetPage } from "./pages/replicaset";
import { ReplicasPage } from "./pages/replicas";
import { RunPage } from "./pages/run";
import { RunsPage } from "./pages/runs";
import { ServerPage } from "./pages/server";
import { SharePage } from "./pages/share";
import { ServersPage } from "./pages/servers";
import { SetupPage } from "./pages/setup";
import { SignInPage } from "./pages/signin";
import { SitesPage } from "./pages/sites";
import { LocksPage } from "./pages/locks";
import { SignInsPage } from "./pages/signins";
import { UsersPage } from "./pages/users";
import { VolumePage } from "./pages/volume";
import { VolumesPage } from "./pages/volumes";
import { Shell } from "./shell";

export function App() {
  const session = useSession();
  const queries = useQueryClient();
  const signedOut = session.error instanceof Problem && session.error.status === 401;
  if (session.data) setCsrf(session.data.csrf ?? "");
  useEffect(() => {
    // Any answer "not signed in" ends the session here too.
    return queries.getQueryCache().subscribe((event) => {
      const error = event.query.state.error;
      if (event.query.queryKey[0] !== "session" && error instanceof Problem && error.status === 401) void queries.resetQueries({ queryKey: ["session"] });
    });
  }, [queries]);
  if (session.isPending && session.failureCount > 1) return <Centered><Trouble error={session.failureReason} /></Centered>;
  if (session.isPending) return <Centered><Loading what="who is signed in" /></Centered>;
  if (signedOut) return <SignInPage />;
  if (!session.data) return <Centered><Trouble error={session.error} retry={() => void session.refetch()} /></Centered>;
  return (
    <Shell session={session.data}>
      <Titles />
      <Routes>
        <Route path="/" element={<OverviewPage />} />
        <Route path="/servers" element={<ServersPage />} />
        <Route path="/servers/:server" element={<ServerPage />} />
        <Route path="/servers/:server/shares/:share" element={<SharePage />} />
        <Route path="/servers/:server/shares/:share/files/*" element={<BrowsePage />} />
        <Route path="/runs" element={<RunsPage />} />
        <Route path="/runs/:run" element={<RunPage />} />
        <Route path="/sites" element={<SitesPage />} />
        <Route path="/namespaces" element={<NamespacesPage />} />
        <Route path="/namespaces/:namespace" element={<NamespacePage />} />
        <Route path="/replicas" element={<ReplicasPage />} />
        <Route path="/cloud-setups/:setup" element={<SetupPage />} />
        <Route path="/replica-plan" element={<PlanPage />} />
        <Route path="/replicas/:set" element={<ReplicaSetPage />} />
        <Route path="/dedup" element={<VolumesPage />} />
        <Route path="/dedup/:volume" element={<VolumePage />} />
        <Route path="/migrations" element={<MigrationsPage />} />
        <Route path="/migrations/:migration" element={<MigrationPage />} />
        <Route path="/users" element={<UsersPage />} />
        <Route path="/locks" element={<LocksPage />} />
        <Route path="/sign-ins" element={<SignInsPage />} />
        <Route path="/changes" element={<ChangesPage />} />
        <Route path="/reference" element={<ApiPage />} />
        <Route path="*" element={<NoPage />} />
      </Routes>
    </Shell>
  );
}

function Centered({ children }: { children: ReactNode }) {
  return <main className="mx-auto mt-[20vh] max-w-lg px-6">{children}</main>;
}

/** Names the browser's tab after the page. */
function Titles() {
  const { pathname } = useLocation();
  useEffect(() => {
    const parts = pathname.split("/").filter(Boolean).map(decodeURIComponent).reverse();
    document.title = [...parts, "Bridge Span"].join(" · ");
  }, [pathname]);
  return null;
}

function NoPage() {
  return (
    <>
      <PageHead title="There is no such page" />
      <Empty>The address may be mistyped, or what it named was removed.</Empty>
    </>
  );
}
