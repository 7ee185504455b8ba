// Work about one subject that is done again and again.
import { useMutation } from "@tanstack/react-query";
import { useMemo } from "react";
import { Link } from "react-router";
import { api, etag, type Job, type Run } from "../api/client";
import { useJobs } from "../api/queries";
import { where } from "../pages/runs";
import { when } from "../format";
import { DataTable, type Column } from "./table";
import { Button, Section, Trouble } from "./ui";

const work: Record<string, string> = { "verify-set": "verification", probe: "probe", estimate: "estimate", "update-movers": "update of movers" };

export function JobsSection({ subject }: { subject: string }) {
  const query = useJobs(subject);
  const change = useMutation({
    mutationFn: async ({ job, what }: { job: Job; what: "toggle" | "remove" | "run" }): Promise<unknown> => {
      const params = { path: { job: job.id }, header: { "If-Match": etag(job.version) } };
      if (what === "run") return api.POST("/api/v1/jobs/{job}/run", { params: { path: { job: job.id } } });
      return what === "remove" ? api.DELETE("/api/v1/jobs/{job}", { params }) : api.PATCH("/api/v1/jobs/{job}", { params, body: { enabled: !job.enabled } });
    },
    onSettled: () => void query.refetch(),
  });
  const columns = useMemo<Column<Job>[]>(
    () => [
      { head: "Work", by: (j) => j.kind, cell: (j) => work[j.kind] ?? j.kind },
      { head: "When", by: (j) => j.rule, cell: (j) => j.rule },
      { head: "Next", right: true, by: (j) => j.next, cell: (j) => (j.enabled ? when(j.next) : "disabled") },
      { head: "Last run", right: true, by: (j) => j.lastRun ?? 0, cell: (j) => (j.lastRun ? <Link className="text-span underline underline-offset-2" to={where({ id: j.lastRun, kind: j.kind as Run["kind"], subject: j.subject })}>{j.lastRun} {j.lastState}</Link> : "not yet") },
      {
        head: "Actions",
        cell: (j) => (
          <>
            <Button look="quiet" onClick={() => change.mutate({ job: j, what: "run" })}>Do it now</Button>
            <Button look="quiet" onClick={() => change.mutate({ job: j, what: "toggle" })}>{j.enabled ? "Disable" : "Enable"}</Button>
            <Button look="quiet" onClick={() => change.mutate({ job: j, what: "remove" })}>Remove</Button>
          </>
        ),
      },
    ],
    [change],
  );
  if (query.data?.length === 0) return null;
  return (
    <Section title="Again and again">
      {change.error && <Trouble error={change.error} />}
      <DataTable what="jobs" query={query} columns={columns} keyOf={(j) => String(j.id)} empty="Nothing." />
    </Section>
  );
}
