// What proves that a set does what it says: verifications, probes, and the jobs
// that do them again and again.
import { useMutation } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, got, type ReplicaProbe, type ReplicaSet, type ReplicaVerification } from "../api/client";
import { useProbes, useReplicaVerifications } from "../api/queries";
import { MsChart } from "../components/chart";
import { SaveForm } from "../components/form";
import { JobsSection } from "../components/jobs";
import { VerifyVerdict } from "../components/replica";
import { DataTable, type Column } from "../components/table";
import { Button, Check, Dialog, Section, Select, TextField, Trouble } from "../components/ui";
import { ago, bytes, took, when } from "../format";

type Level = ReplicaVerification["level"];

const levelOptions = [
  { value: "names", label: "Names, times, permissions" },
  { value: "sample", label: "A sample of contents" },
  { value: "full", label: "Every byte" },
];

export function SetProof({ set }: { set: ReplicaSet }) {
  const [scheduling, setScheduling] = useState<"verification" | "probe">();
  return (
    <>
      <Section title="Verifications"><Verifications set={set} onSchedule={() => setScheduling("verification")} /></Section>
      <Section title="Probes"><Probes set={set} onSchedule={() => setScheduling("probe")} /></Section>
      <JobsSection subject={set.name} />
      <Dialog open={scheduling !== undefined} onOpenChange={() => setScheduling(undefined)} title={scheduling === "probe" ? "Drop a probe again and again" : "Verify again and again"}>
        {scheduling && <ScheduleForm set={set} what={scheduling} onClose={() => setScheduling(undefined)} />}
      </Dialog>
    </>
  );
}

function Verifications({ set, onSchedule }: { set: ReplicaSet; onSchedule: () => void }) {
  const query = useReplicaVerifications(set.name);
  const [level, setLevel] = useState<string>("names");
  const [within, setWithin] = useState(false);
  const navigate = useNavigate();
  const verify = useMutation({
    mutationFn: () => got(api.POST("/api/v1/replica-sets/{set}/verify", { params: { path: { set: set.name } }, body: { level: level as Level, withinCalendar: within || undefined } })),
    onSuccess: (v) => void navigate(`/runs/${v.run.id}`),
  });
  const columns = useMemo<Column<ReplicaVerification>[]>(
    () => [
      { head: "Run", right: true, by: (v) => v.run.id, cell: (v) => <Link className="text-span underline underline-offset-2" to={`/runs/${v.run.id}`}>{v.run.id}</Link> },
      { head: "Level", by: (v) => v.level, cell: (v) => v.level },
      { head: "What came of it", wide: true, by: (v) => v.verdict ?? v.run.state, cell: (v) => <VerifyVerdict v={v} /> },
      { head: "Read", right: true, by: (v) => v.replicas.reduce((n, r) => n + r.read, 0), cell: (v) => bytes(v.replicas.reduce((n, r) => n + r.read, 0)) },
      { head: "When", right: true, by: (v) => v.run.created, cell: (v) => ago(v.run.created) },
    ],
    [],
  );
  return (
    <>
      <div className="mb-3 flex flex-wrap items-end gap-2">
        <div className="w-64"><Select label="How much is compared" value={level} onChange={setLevel} options={levelOptions} /></div>
        <Button disabled={verify.isPending} onClick={() => verify.mutate()}>Verify now</Button>
        {level !== "names" && <span className="pb-1.5"><Check label="Only while lanes are open" checked={within} onChange={setWithin} /></span>}
        <Button look="quiet" onClick={onSchedule}>Verify again and again …</Button>
      </div>
      {verify.error && <Trouble error={verify.error} />}
      <DataTable what="verifications" query={query} columns={columns} keyOf={(v) => String(v.run.id)} empty="It was never verified: whether the replicas really hold the same is not known." />
    </>
  );
}

function Probes({ set, onSchedule }: { set: ReplicaSet; onSchedule: () => void }) {
  const query = useProbes(set.name);
  const drop = useMutation({ mutationFn: () => got(api.POST("/api/v1/replica-sets/{set}/probes", { params: { path: { set: set.name } }, body: {} })), onSuccess: () => void query.refetch() });
  const rows = useMemo(() => (query.data ?? []).flatMap((p) => p.arrivals.map((a) => ({ p, a }))), [query.data]);
  const points = useMemo(() => timesOf(query.data ?? []), [query.data]);
  const columns = useMemo<Column<(typeof rows)[number]>[]>(
    () => [
      { head: "Dropped", by: (r) => r.p.run.created, cell: (r) => when(r.p.run.created) },
      { head: "From", by: (r) => r.p.from, cell: (r) => r.p.from },
      { head: "To", by: (r) => r.a.replica, cell: (r) => r.a.replica },
      { head: "Content after", right: true, by: (r) => r.a.contentMs ?? Infinity, cell: (r) => arrival(r.p, r.a.contentMs) },
      { head: "Permissions after", right: true, by: (r) => r.a.permissionsMs ?? Infinity, cell: (r) => arrival(r.p, r.a.permissionsMs) },
      { head: "Foretold", right: true, by: (r) => r.a.foretoldMs ?? Infinity, cell: (r) => (r.a.foretoldMs === undefined ? "never" : took(r.a.foretoldMs)) },
    ],
    [],
  );
  return (
    <>
      <div className="mb-3 flex flex-wrap items-end gap-2">
        <Button disabled={drop.isPending || set.paused} onClick={() => drop.mutate()}>Drop a probe</Button>
        <Button look="quiet" onClick={onSchedule}>Drop probes again and again …</Button>
      </div>
      {drop.error && <Trouble error={drop.error} />}
      {points.length > 1 && <MsChart label="How long probes were on their way" points={points} names={[...new Set(rows.map((r) => r.a.replica))]} />}
      <DataTable what="arrivals" query={{ ...query, data: query.data && rows }} columns={columns} keyOf={(r) => `${r.p.run.id}/${r.a.replica}`} empty="No probe was dropped yet. One tells how long a change is on its way, now." />
    </>
  );
}

const arrival = (p: ReplicaProbe, ms: number | undefined) => (ms !== undefined ? took(ms) : p.run.state === "running" || p.run.state === "waiting" ? "on its way" : "did not come");

/** The probes in the order of time, each with its arrivals. */
function timesOf(probes: ReplicaProbe[]) {
  return [...probes].reverse().map((p) => {
    const point: Record<string, number> & { at: number } = { at: Date.parse(p.run.created) };
    for (const a of p.arrivals) if (a.contentMs !== undefined) point[a.replica] = a.contentMs;
    return point;
  });
}

function ScheduleForm({ set, what, onClose }: { set: ReplicaSet; what: "verification" | "probe"; onClose: () => void }) {
  const [rule, setRule] = useState(what === "probe" ? "every 6h" : "daily 02:30");
  const [level, setLevel] = useState<string>("names");
  const [within, setWithin] = useState(false);
  const path = { set: set.name };
  const save = () =>
    what === "probe"
      ? api.POST("/api/v1/replica-sets/{set}/probes/jobs", { params: { path }, body: { rule } })
      : api.POST("/api/v1/replica-sets/{set}/verifications/jobs", { params: { path }, body: { rule, level: level as Level, withinCalendar: within || undefined } });
  return (
    <SaveForm action="Save" done="It is done again and again from now on." fields={["rule"]} onDone={onClose} onCancel={onClose} save={save}>
      {(errors) => (
        <>
          {what === "verification" && <Select label="How much is compared" value={level} onChange={setLevel} options={levelOptions} />}
          {what === "verification" && level !== "names" && <Check label="Read contents only while lanes are open, no faster than they may carry" checked={within} onChange={setWithin} />}
          <TextField label="When" value={rule} onChange={(e) => setRule(e.target.value)} error={errors.rule} help="Such as mon-fri 02:30, daily 04:00, or every 6h." />
        </>
      )}
    </SaveForm>
  );
}
