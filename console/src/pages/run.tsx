// A run of its own page: whatever kind it is.
import { Navigate, useParams } from "react-router";
import { useRun } from "../api/queries";
import { Loading, Trouble } from "../components/ui";
import { ComparisonPage } from "./comparison";
import { where } from "./runs";
import { SetVerificationPage } from "./setverification";
import { VerificationPage } from "./verification";
import { WhoCanPage } from "./whocan";

export function RunPage() {
  const run = Number(useParams().run);
  const query = useRun(run);
  if (query.isPending) return <Loading what="the run" />;
  if (!query.data) return <Trouble error={query.error} retry={() => void query.refetch()} />;
  switch (query.data.kind) {
    case "compare":
      return <ComparisonPage run={run} />;
    case "who-can":
      return <WhoCanPage run={run} />;
    case "verify-set":
      return <SetVerificationPage run={run} />;
    case "verify":
      return <VerificationPage run={run} />;
  }
  return <Navigate to={where(query.data)} replace />;
}
