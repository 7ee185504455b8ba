// Replica sets: which folders are kept the same, and how far behind they are.
import { useMemo } from "react";
import { Link, useNavigate } from "react-router";
import type { ReplicaSet } from "../api/client";
import { useReplicaSets } from "../api/queries";
import { Setups } from "./setups";
import { SetState, setPage } from "../components/replica";
import { Status } from "../components/status";
import { DataTable, type Column } from "../components/table";
import { Button, PageHead } from "../components/ui";
import { bytes } from "../format";

const sum = (set: ReplicaSet, of: (l: ReplicaSet["lanes"][number]) => number) => set.lanes.reduce((n, l) => n + of(l), 0);
const conflicts = (set: ReplicaSet) => set.replicas.reduce((n, r) => n + r.attic.conflicts, 0);

export function ReplicasPage() {
  const sets = useReplicaSets();
  const navigate = useNavigate();
  const columns = useMemo<Column<ReplicaSet>[]>(
    () => [
      { head: "Set", by: (s) => s.name, cell: (s) => <Link className="font-medium text-span underline underline-offset-2" to={setPage(s.name)}>{s.name}</Link> },
      { head: "State", by: (s) => s.state, cell: (s) => <SetState set={s} /> },
      { head: "Replicas", by: (s) => s.replicas.map((r) => r.name).join(), cell: (s) => s.replicas.map((r) => r.name).join(", ") },
      { head: "Backlog", right: true, by: (s) => sum(s, (l) => l.backlog.files), cell: (s) => sum(s, (l) => l.backlog.files).toLocaleString("en") },
      { head: "Bytes", right: true, by: (s) => sum(s, (l) => l.backlog.bytes), cell: (s) => bytes(sum(s, (l) => l.backlog.bytes)) },
      { head: "Conflicts kept", right: true, by: conflicts, cell: (s) => conflicts(s).toLocaleString("en") },
      { head: "Status", wide: true, by: (s) => s.summary, cell: (s) => <span className="text-soft">{s.summary}</span> },
    ],
    [],
  );
  const bad = sets.data?.filter((s) => s.state === "failing") ?? [];
  const plan = <Button look="main" onClick={() => void navigate("/replica-plan")}>Plan a replica set</Button>;
  return (
    <>
      <PageHead title="Replica sets" verdict={sets.data && sets.data.length > 0 && (bad.length > 0 ? <Status tone="bad">{bad.map((s) => s.name).join(", ")} cannot be kept the same now.</Status> : <Status tone="good">Nothing needs you.</Status>)}>
        {plan}
      </PageHead>
      <DataTable what="replica sets" query={sets} columns={columns} keyOf={(s) => s.name} empty="No folder is kept the same in several places yet. A plan tells what it will take, before anything is changed." emptyAction={plan} />
      <Setups />
    </>
  );
}
