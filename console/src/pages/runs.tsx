// Work that takes a while: what runs, what ended how.
import { useMemo } from "react";
import { Link } from "react-router";
import type { Run } from "../api/client";
import { useRuns } from "../api/queries";
import { setPage } from "../components/replica";
import { ended, RunProgress, RunState } from "../components/run";
import { Status } from "../components/status";
import { DataTable, type Column } from "../components/table";
import { Empty, PageHead, Section } from "../components/ui";
import { ago, filesOf, plural } from "../format";

export function RunsPage() {
  const query = useRuns();
  const open = (query.data ?? []).filter((r) => !ended(r));
  const failed = (query.data ?? []).filter((r) => r.state === "failed");
  const columns = useMemo<Column<Run>[]>(
    () => [
      { head: "Run", right: true, by: (r) => r.id, cell: (r) => r.id },
      { head: "Kind", by: (r) => r.kind, cell: (r) => kinds[r.kind] },
      { head: "Of", wide: true, by: (r) => r.subject, cell: (r) => <Link className="font-mono text-span underline underline-offset-2" to={where(r)}>{r.subject}</Link> },
      { head: "State", by: (r) => r.state, cell: (r) => <span title={r.trouble}><RunState run={r} /></span> },
      { head: "Done", right: true, by: (r) => r.done, cell: (r) => r.done.toLocaleString("en") },
      { head: "Took", right: true, by: (r) => r.workedMs, cell: (r) => `${(r.workedMs / 1000).toFixed(1)} s` },
      { head: "By", by: (r) => r.who, cell: (r) => r.who },
      { head: "Created", right: true, by: (r) => r.created, cell: (r) => ago(r.created) },
    ],
    [],
  );
  return (
    <>
      <PageHead title="Runs" verdict={failed.length > 0 ? <Status tone="bad">{plural(failed.length, "run")} failed</Status> : <Status tone="good">{open.length === 0 ? "nothing is under way" : `${plural(open.length, "run")} under way`}</Status>} />
      <Section title="Under way">
        {open.length === 0 ? <Empty>Nothing is under way. Surveys start on the page of a share.</Empty> : open.map((r) => (
          <div key={r.id} className="mb-4 border-b border-line pb-3">
            <p className="mb-1 font-medium first-letter:uppercase">{kinds[r.kind]} of <Link className="font-mono text-span underline underline-offset-2" to={where(r)}>{r.subject}</Link></p>
            <RunProgress run={r} />
          </div>
        ))}
      </Section>
      <Section title="All runs">
        <DataTable what="runs" query={query} columns={columns} keyOf={(r) => String(r.id)} empty="Nothing was run yet." />
      </Section>
    </>
  );
}

const kinds: Record<Run["kind"], string> = { survey: "survey", share: "change of a share", front: "change of a front", rights: "change of rights", compare: "comparison of rights", verify: "verification", "who-can": "user search", plan: "plan of a replica set", "create-set": "making of a replica set", "verify-set": "verification of a replica set", probe: "probe", contents: "contents of an edge", "account-uses": "accounts in use", estimate: "estimate of deduplication", "what-if": "what-if of an estimate", pool: "comparison of volumes", prove: "proof of an estimate", "update-movers": "update of movers" };

export function where(r: Pick<Run, "id" | "kind" | "subject">): string {
  if (r.kind === "probe" || r.kind === "contents" || r.kind === "account-uses") return setPage(r.subject);
  if (r.kind === "prove") return `/dedup/${encodeURIComponent(r.subject)}`;
  if (r.kind === "what-if") return `/dedup/${encodeURIComponent(r.subject)}?what-if=${r.id}`;
  if (r.kind === "pool") return `/dedup?pool=${r.id}`;
  if (r.kind === "estimate") return `/dedup/${encodeURIComponent(r.subject)}?run=${r.id}`;
  if (r.kind === "create-set") return `/replica-plan?made=${r.id}`;
  if (r.kind === "update-movers") return `/servers?updates=${r.id}`;
  if (r.kind === "plan") return `/replica-plan?run=${r.id}`;
  if (r.kind !== "survey" && r.kind !== "share" && r.kind !== "rights") return `/runs/${r.id}`;
  const [server = "", share = "", ...rest] = r.subject.split("/");
  const base = [server, share].map(encodeURIComponent);
  return r.kind !== "rights" ? `/servers/${base[0]}/shares/${base[1]}` : filesOf(server, share, ...rest);
}
