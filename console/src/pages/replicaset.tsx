// One replica set: is anything wrong, how far behind is each lane, what lost,
// and what can be done about it.
import { useMutation } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, etag, type AtticItem, type Lane, type Replica, type ReplicaSet, type ReplicaTrouble, type WaitingPath } from "../api/client";
import { useAttic, useAtticComparison, useCalendar, useLaneHistory, useReplicaSet, useReplicaTroubles, useWaiting } from "../api/queries";
import { BytesChart, type Point } from "../components/chart";
import { FindingLines } from "../components/findinglines";
import { SaveForm } from "../components/form";
import { LaneStrip, replicaTones, SetState } from "../components/replica";
import { Status } from "../components/status";
import { DataTable, type Column } from "../components/table";
import { Button, Dialog, Facts, Loading, PageHead, Section, TextField, Trouble } from "../components/ui";
import { Week } from "../components/week";
import { WhenWhere } from "./arrival";
import { Removals } from "./removals";
import { AccessAcross } from "./setaccess";
import { AccountsInUse } from "./setaccounts";
import { CloudUsage } from "./usage";
import { Contents, isCloudSet, WhereIs } from "./edges";
import { sealedWords, whatOf } from "./sealing";
import { SetProof } from "./setproof";
import { AccountsOfSet, AddReplicaForm, LaneForm, ReplicaForm, SettingsForm } from "./setsettings";
import { ago, bytes, filesOf, plural, sweepMinutes, target, took, when } from "../format";

type Doing = { kind: "remove" } | { kind: "settings" } | { kind: "add" | "accounts" } | { kind: "lane" | "waiting"; lane: Lane } | { kind: "replica"; replica: Replica } | { kind: "restore" | "purge" | "compare"; item: AtticItem };

export function ReplicaSetPage() {
  const { set: name = "" } = useParams();
  const query = useReplicaSet(name);
  const [doing, setDoing] = useState<Doing>();
  const navigate = useNavigate();
  const close = () => setDoing(undefined);
  if (query.isPending) return <Loading what={`the set ${name}`} />;
  if (!query.data) return <Trouble error={query.error} retry={() => void query.refetch()} />;
  const set = query.data;
  const alerts = set.alerts.filter((a) => a.code !== "removals"); // the section below is about them
  return (
    <>
      <PageHead title={set.name} verdict={<><span className="mr-3 font-semibold"><SetState set={set} /></span><span className="text-soft">{set.summary}</span></>}>
        <Work set={set} />
        <Button onClick={() => setDoing({ kind: "settings" })}>Settings</Button>
        <Button onClick={() => setDoing({ kind: "remove" })}>Remove …</Button>
      </PageHead>
      {alerts.length > 0 && <section aria-label={plural(alerts.length, "alert")} className="my-4"><FindingLines list={alerts} /></section>}
      <Removals set={set} />
      <Section title="Lanes"><Lanes set={set} onLane={(lane) => setDoing({ kind: "lane", lane })} onWaiting={(lane) => setDoing({ kind: "waiting", lane })} /></Section>
      <Section title="Replicas" aside={<>{set.permissions === "map" && <Button look="quiet" onClick={() => setDoing({ kind: "accounts" })}>Accounts</Button>} <Button onClick={() => setDoing({ kind: "add" })}>Add a replica</Button></>}><Replicas set={set} onReplica={(replica) => setDoing({ kind: "replica", replica })} /></Section>
      <Troubles set={set} />
      {isCloudSet(set) && <WhereIs set={set} />}
      {isCloudSet(set) && <WhenWhere set={set} />}
      {isCloudSet(set) && <CloudUsage set={set} />}
      <AccountsInUse set={set} />
      <AccessAcross set={set} />
      <SetProof set={set} />
      <Section title="Backlog in the last day"><Backlog set={set} /></Section>
      <Section title="Attic"><Attic set={set} onDo={(kind, item) => setDoing({ kind, item })} /></Section>
      <Section title="Settings"><Settings set={set} /></Section>
      <Dialog open={doing?.kind === "remove"} onOpenChange={close} title={`Remove ${set.name}?`} lead="Nothing is kept the same any more. All files stay where they are, those in the attics too; what is known of versions is forgotten.">
        <SaveForm action="Remove" danger done={`${set.name} was removed; its files are where they were.`} onDone={() => void navigate("/replicas")} onCancel={close} save={() => api.DELETE("/api/v1/replica-sets/{set}", { params: { path: { set: set.name }, header: { "If-Match": etag(set.version) } } })} />
      </Dialog>
      <Dialog open={doing?.kind === "settings"} onOpenChange={close} title={`Settings of ${set.name}`} lead="The work goes on with them within seconds.">
        {doing?.kind === "settings" && <SettingsForm set={set} onClose={close} />}
      </Dialog>
      <Dialog open={doing?.kind === "lane"} onOpenChange={close} title={doing?.kind === "lane" ? `From ${doing.lane.from} to ${doing.lane.to}` : ""}>
        {doing?.kind === "lane" && <LaneForm set={set} lane={doing.lane} onClose={close} />}
      </Dialog>
      <Dialog open={doing?.kind === "waiting"} onOpenChange={close} title={doing?.kind === "waiting" ? `What waits from ${doing.lane.from} to ${doing.lane.to}` : ""} lead="In the order in which it is looked at; what turns out to be there already is not carried." wide>
        {doing?.kind === "waiting" && <Waiting set={set} lane={doing.lane} />}
      </Dialog>
      <Dialog open={doing?.kind === "replica"} onOpenChange={close} title={doing?.kind === "replica" ? `${doing.replica.name} of ${set.name}` : ""}>
        {doing?.kind === "replica" && <ReplicaForm set={set} replica={doing.replica} onClose={close} />}
      </Dialog>
      <Dialog open={doing?.kind === "add"} onOpenChange={close} title={`Add a replica to ${set.name}`} lead="The others stay as they are. What is there already and the same is adopted; what the set does not have goes to the attic there.">
        {doing?.kind === "add" && <AddReplicaForm set={set} onClose={close} />}
      </Dialog>
      <Dialog open={doing?.kind === "accounts"} onOpenChange={close} title="Accounts" lead={`Permissions of ${set.name} name accounts of ${set.accountsOf ?? ""}; at the other replicas they are these, by the map ${set.accountMap ?? ""}.`} wide>
        {doing?.kind === "accounts" && <AccountsOfSet set={set} onClose={close} />}
      </Dialog>
      <Dialog open={doing?.kind === "compare"} onOpenChange={close} title="Both versions" wide>
        {doing?.kind === "compare" && <Versions set={set} item={doing.item} />}
      </Dialog>
      <Dialog open={doing?.kind === "restore"} onOpenChange={close} title="Put it back?" lead="It comes back with its permissions, and the other replicas take it over.">
        {doing?.kind === "restore" && <RestoreForm set={set} item={doing.item} onClose={close} />}
      </Dialog>
      <Dialog open={doing?.kind === "purge"} onOpenChange={close} title="Remove it for good?" lead="Nothing brings it back afterwards.">
        {doing?.kind === "purge" && (
          <SaveForm action="Remove for good" danger done="It is gone." onDone={close} onCancel={close} save={() => api.DELETE("/api/v1/replica-sets/{set}/attic/{item}", { params: { path: { set: set.name, item: doing.item.id } } })}>
            {() => <p className="font-mono break-all">{doing.item.replica}: {doing.item.path}</p>}
          </SaveForm>
        )}
      </Dialog>
    </>
  );
}

/** Pausing, going on, and looking now. */
function Work({ set }: { set: ReplicaSet }) {
  const pause = useMutation({ mutationFn: () => api.PATCH("/api/v1/replica-sets/{set}", { params: { path: { set: set.name }, header: { "If-Match": etag(set.version) } }, body: { paused: !set.paused } }) });
  const look = useMutation({ mutationFn: () => api.POST("/api/v1/replica-sets/{set}/look", { params: { path: { set: set.name } } }) });
  return (
    <>
      <Button disabled={pause.isPending} onClick={() => pause.mutate()}>{set.paused ? "Go on" : "Pause"}</Button>
      <Button disabled={look.isPending || set.paused} onClick={() => look.mutate()}>Look now</Button>
      {(pause.error ?? look.error) && <Trouble error={pause.error ?? look.error} />}
    </>
  );
}

/** The paths in the backlog of a lane. */
function Waiting({ set, lane }: { set: ReplicaSet; lane: Lane }) {
  const query = useWaiting(set.name, lane.from, lane.to);
  const columns = useMemo<Column<WaitingPath>[]>(
    () => [
      { head: "Path", wide: true, by: (w) => w.path, cell: (w) => <span className="font-mono break-all">{w.path}</span> },
      { head: "What", by: (w) => w.kind, cell: (w) => <>{w.kind}{w.within ? <span className="block text-sm text-soft">with {plural(w.within, "path")} in it</span> : ""}</> },
      { head: "Bytes", right: true, by: (w) => w.bytes, cell: (w) => (w.kind === "file" ? <>{bytes(w.bytes)}{w.arrived ? <span className="block text-sm text-soft" title="When it is broken off, it goes on after these">{bytes(w.arrived)} have come</span> : ""}</> : "") },
      { head: "Since", right: true, by: (w) => w.since, cell: (w) => ago(w.since) },
      { head: "Tried", right: true, by: (w) => w.tried ?? 0, cell: (w) => (w.tried ? <>{plural(w.tried, "time")}{w.nextTry && <span className="block text-sm text-soft">again at {when(w.nextTry).slice(11)}</span>}</> : "") },
    ],
    [],
  );
  return (
    <>
      <DataTable what="paths" query={query} columns={columns} keyOf={(w) => w.path} empty="Nothing waits." />
      {lane.backlog.files > (query.data?.length ?? 0) && <p className="mt-2 text-sm text-soft">{lane.backlog.files.toLocaleString("en")} paths wait in all; folders stand for what is in them.</p>}
    </>
  );
}

function Lanes({ set, onLane, onWaiting }: { set: ReplicaSet; onLane: (lane: Lane) => void; onWaiting: (lane: Lane) => void }) {
  const columns = useMemo<Column<Lane>[]>(
    () => [
      { head: "Lane", wide: true, by: (l) => l.from + l.to, cell: (l) => <div className="min-w-56"><LaneStrip compact lane={l} /></div> },
      { head: "Status", by: (l) => l.state, cell: (l) => <span className="block max-w-52 truncate" title={l.trouble ? `${l.words}. ${l.trouble}` : l.words}>{l.words}</span> },
      { head: "Backlog", right: true, by: (l) => l.backlog.files, cell: (l) => (l.backlog.files > 0 ? <button type="button" className="text-span underline underline-offset-2" onClick={() => onWaiting(l)} aria-label={`${l.backlog.files.toLocaleString("en")} wait from ${l.from} to ${l.to}`}>{l.backlog.files.toLocaleString("en")}</button> : "0") },
      { head: "Bytes", right: true, by: (l) => l.backlog.bytes, cell: (l) => bytes(l.backlog.bytes) },
      { head: "Oldest", right: true, by: (l) => l.backlog.oldest ?? "", cell: (l) => (l.backlog.oldest ? ago(l.backlog.oldest) : "") },
      { head: "Rate", right: true, by: (l) => l.rate, cell: (l) => (l.stalled ? <span className="text-bad" title={l.trouble}>no progress</span> : l.rate > 0 ? `${bytes(l.rate)}/s` : "") },
      { head: "Clears at", right: true, by: (l) => l.emptyAt ?? "", cell: (l) => (l.stalled ? <span className="text-bad" title={`No progress since ${when(l.stalled)}`}>unknown</span> : l.emptyAt ? when(l.emptyAt).slice(5, 16) : "") },
      { head: "Transferred", right: true, by: (l) => l.carried.bytes, cell: (l) => <>{bytes(l.carried.bytes)}{l.carried.spared > 0 && <span className="block text-sm text-soft" title="Bytes of transferred files that the receiver already had">{bytes(l.carried.spared)} saved by delta</span>}</> },
      { head: "Actions", cell: (l) => <Button look="quiet" onClick={() => onLane(l)} aria-label={`Open, close or change the lane from ${l.from} to ${l.to}`}>Change</Button> },
    ],
    [onLane, onWaiting],
  );
  return <DataTable what="lanes" query={{ data: set.lanes, error: null, isPending: false, refetch: () => undefined }} columns={columns} keyOf={(l) => l.from + "/" + l.to} empty="No lanes." />;
}

function Replicas({ set, onReplica }: { set: ReplicaSet; onReplica: (r: Replica) => void }) {
  const columns = useMemo<Column<Replica>[]>(
    () => [
      { head: "Replica", by: (r) => r.name, cell: (r) => <><span className="font-medium">{r.name}</span>{r.seed && <span className="text-soft"> seed</span>}</> },
      { head: "Where", by: (r) => target(r), cell: (r) => <Link className="font-mono text-span underline underline-offset-2" to={filesOf(r.server, r.share, ...(r.sub ?? "").split("/"))}>{target(r)}</Link> },
      {
        head: "State", wide: true, by: (r) => r.state, cell: (r) => (
          <span className="block min-w-28">
            <Status tone={replicaTones[r.state]}>{r.state}</Status>
            <span className="block">{r.words}</span>
            {!r.pickedUp && !set.paused && <span className="block text-soft">settings not applied yet</span>}
          </span>
        ),
      },
      ...(isCloudSet(set) ? [{ head: "Contents", by: (r: Replica) => r.edgeFigures?.whole ?? 0, cell: (r: Replica) => <Contents replica={r} /> }] : []),
      { head: "First fill", right: true, by: (r) => r.filledAt ?? "", cell: (r) => <Fill set={set} r={r} /> },
      {
        head: "Last scan", right: true, by: (r) => r.looked ?? "", cell: (r) => (
          <>
            {r.looked ? <span title={`It took ${r.lookMs} ms.`}>{ago(r.looked)}</span> : "not yet"}
            {r.swept && <span className="block text-sm text-soft">every {took(sweepMinutes(r) * 60_000)}</span>}
            {r.notified && <span className="block text-sm text-soft" title={`The latest event notification came at ${when(r.notified)}.`}>and on notification</span>}
          </>
        ),
      },
      { head: "Attic", right: true, by: (r) => r.attic.items, cell: (r) => <span title={r.attic.lastConflict ? `The last conflict that it keeps: ${when(r.attic.lastConflict)}` : undefined}>{r.attic.items.toLocaleString("en")}<span className="block text-sm text-soft">{bytes(r.attic.bytes)}{r.atticQuota > 0 && ` of ${bytes(r.atticQuota)}`}</span></span> },
      { head: "Actions", cell: (r) => <Button look="quiet" onClick={() => onReplica(r)} aria-label={`Change ${r.name}`}>Change</Button> },
    ],
    [set, onReplica],
  );
  return <DataTable what="replicas" query={{ data: set.replicas, error: null, isPending: false, refetch: () => undefined }} columns={columns} keyOf={(r) => r.name} empty="No replicas." />;
}

/** How long the first fill took, and how long it was to take. */
function Fill({ set, r }: { set: ReplicaSet; r: Replica }) {
  const since = (iso: string) => took(Date.parse(iso) - Date.parse(set.created));
  if (r.seed) return <span className="text-soft">the seed</span>;
  return (
    <>
      {r.filledAt ? since(r.filledAt) : "not yet"}
      {r.foretold && <span className="block text-sm text-soft">{since(r.foretold)} foretold</span>}
    </>
  );
}

function Troubles({ set }: { set: ReplicaSet }) {
  const query = useReplicaTroubles(set.name);
  const columns = useMemo<Column<ReplicaTrouble>[]>(
    () => [
      { head: "Replica", by: (t) => t.replica, cell: (t) => t.replica },
      { head: "Path", wide: true, by: (t) => t.path, cell: (t) => <span className="font-mono break-all">{t.path}</span> },
      { head: "Problem", by: (t) => t.problem, cell: (t) => <><Status tone="warn"><span className="whitespace-normal">{t.problem}</span></Status>{t.holder && <span className="block text-soft">held by {t.holder}</span>}</> },
      { head: "Since", right: true, by: (t) => t.since, cell: (t) => ago(t.since) },
      { head: "Tried", right: true, by: (t) => t.times, cell: (t) => `${plural(t.times, "time")}, last ${ago(t.last)}` },
    ],
    [],
  );
  if (query.data?.length === 0) return null;
  return <Section title="Failed, retried automatically"><DataTable what="items" query={query} columns={columns} keyOf={(t) => t.replica + "/" + t.path} empty="No failed items." /></Section>;
}

function Backlog({ set }: { set: ReplicaSet }) {
  const query = useLaneHistory(set.name, 24);
  const points = useMemo(() => {
    const at = new Map<number, Point>();
    for (const s of query.data ?? []) {
      const t = Date.parse(s.at);
      const point = at.get(t) ?? { at: t };
      point[`${s.from} to ${s.to}`] = s.backlogBytes;
      at.set(t, point);
    }
    return [...at.values()];
  }, [query.data]);
  if (query.isPending) return <Loading what="the history" />;
  if (!query.data) return <Trouble error={query.error} />;
  if (points.length < 2) return <p className="text-soft">A figure is kept each minute; two are needed to draw them.</p>;
  return <BytesChart label="Bytes in the backlogs of the lanes" points={points} names={set.lanes.map((l) => `${l.from} to ${l.to}`)} />;
}

const reasons: Record<AtticItem["why"], string> = { removed: "removed elsewhere", conflict: "lost a conflict", replaced: "something else took its place", "first-fill": "was there before" };

function Attic({ set, onDo }: { set: ReplicaSet; onDo: (kind: "restore" | "purge" | "compare", item: AtticItem) => void }) {
  const query = useAttic(set.name);
  const columns = useMemo<Column<AtticItem>[]>(
    () => [
      { head: "Number", right: true, by: (i) => i.id, cell: (i) => i.id },
      { head: "Replica", by: (i) => i.replica, cell: (i) => i.replica },
      { head: "Path", wide: true, by: (i) => i.path, cell: (i) => <span className="font-mono break-all">{i.path}</span> },
      { head: "Why", by: (i) => reasons[i.why], cell: (i) => reasons[i.why] },
      { head: "Since", right: true, by: (i) => i.at, cell: (i) => ago(i.at) },
      {
        head: "Actions",
        cell: (i) => (
          <>
            <Button look="quiet" onClick={() => onDo("compare", i)} aria-label={`Compare ${i.path} with what is there now`}>Compare</Button>
            <Button look="quiet" onClick={() => onDo("restore", i)} aria-label={`Put back ${i.path}`}>Put back</Button>
            <Button look="quiet" onClick={() => onDo("purge", i)} aria-label={`Remove ${i.path} for good`}>Remove …</Button>
          </>
        ),
      },
    ],
    [onDo],
  );
  return <DataTable what="things kept" query={query} columns={columns} keyOf={(i) => String(i.id)} empty="Nothing was removed, lost a conflict or stood in the way." />;
}

const permissionWords = (set: ReplicaSet) => ({ carry: "the same everywhere", map: `through the account map ${set.accountMap ?? ""}`, leave: "each replica has its own" })[set.permissions];

function Settings({ set }: { set: ReplicaSet }) {
  const week = useCalendar(set.calendar);
  const out = set.filter.leaveOut ?? [];
  const only = set.filter.only ?? [];
  return (
    <div className="grid gap-4">
      <Facts
        facts={[
          ["Layout", set.layout],
          ["Permissions", permissionWords(set)],
          ["Left out", out.length > 0 ? <span className="font-mono">{out.join(", ")}</span> : "nothing"],
          ...(only.length > 0 ? ([["Only", <span className="font-mono">{only.join(", ")}</span>]] as [string, React.ReactNode][]) : []),
          ["Attics keep", plural(set.atticDays, "day")],
          ...(set.replicas[0]?.sealing ? [["Sealed", `${sealedWords[whatOf(set.replicas[0].sealing)]}; ${plural(set.replicas[0].sealing.recoveryKeys.length, "recovery key")}`] as [string, string]] : []),
          ["Removal limit", set.removalLimit > 0 ? `${set.removalLimit}% of a replica within an hour` : "none"],
          ["Calendar", <code>{set.calendar}</code>],
        ]}
      />
      {week.data?.hours && <Week hours={week.data.hours} />}
    </div>
  );
}

/** What an attic keeps, beside what is at its path now. */
function Versions({ set, item }: { set: ReplicaSet; item: AtticItem }) {
  const query = useAtticComparison(set.name, item.id);
  if (query.isPending) return <Loading what="both versions" />;
  if (!query.data) return <Trouble error={query.error} />;
  const c = query.data;
  const side = (title: string, v: typeof c.kept | undefined) => (
    <section className="min-w-0">
      <h3 className="font-medium">{title}</h3>
      {v ? (
        <>
          <p className="text-soft">{bytes(v.size)}, changed {when(v.modified)}</p>
          {v.text !== undefined ? <pre className="mt-2 max-h-96 overflow-auto border border-line p-2 font-mono text-sm whitespace-pre-wrap">{v.text}</pre> : <p className="mt-2 text-soft">It is no short text, and not shown.</p>}
        </>
      ) : <p className="text-soft">Nothing is there now.</p>}
    </section>
  );
  return (
    <div className="grid gap-3">
      <p className="font-mono break-all">{item.replica}: {item.path}</p>
      <div className="grid gap-5 sm:grid-cols-2">{side(`In the attic: ${reasons[item.why]}`, c.kept)}{side("At its path now", c.now)}</div>
      {c.rights && c.rights.length > 0 && <ul className="text-soft">{c.rights.map((r) => <li key={r}>{r}</li>)}</ul>}
    </div>
  );
}

function RestoreForm({ set, item, onClose }: { set: ReplicaSet; item: AtticItem; onClose: () => void }) {
  const [as, setAs] = useState(item.path);
  return (
    <SaveForm action="Put back" done={`${as} is back at ${item.replica}.`} fields={["as"]} onDone={onClose} onCancel={onClose} save={() => api.POST("/api/v1/replica-sets/{set}/attic/{item}/restore", { params: { path: { set: set.name, item: item.id }, query: { as: as === item.path ? undefined : as } } })}>
      {(errors) => <TextField label={`Path at ${item.replica}`} mono value={as} onChange={(e) => setAs(e.target.value)} error={errors.as} help="Give another path to put it beside what is there now." />}
    </SaveForm>
  );
}
