// The settings of a replica set: of all of it, of a lane, of a replica. What
// follows from a change is told before it is saved.
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, etag, type EditLane, type Lane, type Replica, type ReplicaSet, type Schemas } from "../api/client";
import { useReplicaAccounts, useServers, useShares } from "../api/queries";
import { SaveForm } from "../components/form";
import { WhatFollows } from "../components/preview";
import { LaneStrip } from "../components/replica";
import { Status } from "../components/status";
import { Button, Check, Field, Loading, Select, TextField, TextInput, Trouble } from "../components/ui";
import { CalendarField } from "../components/week";
import { hasStubs, isCloudSet, PolicyFields, usePolicy } from "./edges";
import { fromGiB, inGiB, layouts, sweepMinutes, target, when } from "../format";

/** The ETag that a change of a set, or of what belongs to it, is sent with. */
const under = (set: ReplicaSet) => ({ "If-Match": etag(set.version) });

export function SettingsForm({ set, onClose }: { set: ReplicaSet; onClose: () => void }) {
  const [calendar, setCalendar] = useState(set.calendar);
  const [layout, setLayout] = useState(set.layout);
  const [days, setDays] = useState(String(set.atticDays));
  const [limit, setLimit] = useState(String(set.removalLimit));
  const [out, setOut] = useState((set.filter.leaveOut ?? []).join(", "));
  const [note, setNote] = useState(set.note ?? "");
  const list = (text: string) => text.split(",").map((p) => p.trim()).filter(Boolean);
  const body: Schemas["EditReplicaSet"] = { calendar, layout: layout === "custom" ? undefined : layout, atticDays: Number(days), removalLimit: Number(limit), note, filter: { ...set.filter, leaveOut: list(out) } };
  const asItIs: Schemas["EditReplicaSet"] = { calendar: set.calendar, layout: set.layout === "custom" ? undefined : set.layout, atticDays: set.atticDays, removalLimit: set.removalLimit, note: set.note ?? "", filter: { ...set.filter, leaveOut: set.filter.leaveOut ?? [] } };
  return (
    <SaveForm
      action="Save"
      done={`The settings of ${set.name} were saved.`}
      fields={["calendar", "layout", "atticDays", "removalLimit", "filter.leaveOut", "note"]}
      onDone={onClose}
      onCancel={onClose}
      save={() => api.PATCH("/api/v1/replica-sets/{set}", { params: { path: { set: set.name }, header: under(set) }, body })}
    >
      {(errors) => (
        <>
          <CalendarField label="Calendar of all lanes without one of their own" value={calendar} onChange={setCalendar} error={errors.calendar} />
          {set.layout !== "custom" && <Select label="Layout" value={layout} onChange={(v) => setLayout(v as ReplicaSet["layout"])} options={layouts} />}
          <TextField label="Left out" mono value={out} onChange={(e) => setOut(e.target.value)} error={errors["filter.leaveOut"]} help="Patterns such as *.tmp or cache/, with commas between. What is left out stays where it is, as it is." />
          <TextField label="Attics keep things for, in days" inputMode="numeric" value={days} onChange={(e) => setDays(e.target.value)} error={errors.atticDays} />
          <TextField label="Removal limit, in percent" inputMode="numeric" value={limit} onChange={(e) => setLimit(e.target.value)} error={errors.removalLimit} help="When more of a replica is removed within an hour, the removals are pending until somebody decides. 0 for no limit." />
          <TextField label="Note" value={note} onChange={(e) => setNote(e.target.value)} error={errors.note} />
          <WhatFollows set={set.name} change={{ set: body }} asItIs={{ set: { ...asItIs, note } }} />
        </>
      )}
    </SaveForm>
  );
}

export function LaneForm({ set, lane, onClose }: { set: ReplicaSet; lane: Lane; onClose: () => void }) {
  const [own, setOwn] = useState(Boolean(lane.calendar));
  const [calendar, setCalendar] = useState(lane.calendar ?? set.calendar);
  const [closed, setClosed] = useState(lane.closed);
  const [hours, setHours] = useState("");
  const change: EditLane = { closed: hours ? false : closed, calendar: own ? calendar : "" };
  if (hours) change.openMinutes = Math.round(60 * Number(hours));
  else if (lane.openUntil) change.openMinutes = 0;
  const asItIs: EditLane = { closed: lane.closed, calendar: lane.calendar ?? "", ...(lane.openUntil ? { openMinutes: 0 } : {}) };
  return (
    <SaveForm action="Save" done="The lane was changed." fields={["calendar", "openMinutes"]} onDone={onClose} onCancel={onClose} save={() => api.PATCH("/api/v1/replica-sets/{set}/lanes/{from}/{to}", { params: { path: { set: set.name, from: lane.from, to: lane.to }, header: under(set) }, body: change })}>
      {(errors) => (
        <>
          <LaneStrip lane={lane} />
          <Check label="Closed by hand; its backlog waits" checked={closed} onChange={setClosed} />
          <TextField label="Open now for so many hours, regardless of its calendar" inputMode="decimal" value={hours} onChange={(e) => setHours(e.target.value)} error={errors.openMinutes} help={lane.openUntil ? `It is open until ${when(lane.openUntil)}; leave this empty to end that.` : "Leave it empty to let the calendar decide."} />
          <Check label="A calendar of its own" checked={own} onChange={setOwn} />
          {own && <CalendarField label="Calendar" value={calendar} onChange={setCalendar} error={errors.calendar} />}
          <WhatFollows set={set.name} change={{ lane: { from: lane.from, to: lane.to, change } }} asItIs={{ lane: { from: lane.from, to: lane.to, change: asItIs } }} />
        </>
      )}
    </SaveForm>
  );
}

/** The quotas of a replica, where it is, and whether it belongs to the set. */
export function ReplicaForm({ set, replica: r, onClose }: { set: ReplicaSet; replica: Replica; onClose: () => void }) {
  const [doing, setDoing] = useState<"quotas" | "contents" | "sweep" | "home" | "seed" | "drop">(hasStubs(r.edge) ? "contents" : "quotas");
  const policy = usePolicy(r.edge);
  const isEdge = isCloudSet(set) && !r.swept;
  const [intake, setIntake] = useState(inGiB(r.intakeQuota));
  const [attic, setAttic] = useState(inGiB(r.atticQuota));
  const [hours, setHours] = useState(String(sweepMinutes(r) / 60));
  const [home, setHome] = useState<Place>({ server: r.server, share: r.share, sub: r.sub ?? "" });
  const path = { set: set.name, replica: r.name };
  const edit = (body: Schemas["EditReplica"]) => api.PATCH("/api/v1/replica-sets/{set}/replicas/{replica}", { params: { path, header: under(set) }, body });
  const quotas = { intakeQuota: fromGiB(intake), atticQuota: fromGiB(attic) };
  const sweep = { sweepMin: Math.round(Number(hours) * 60) };
  const save = {
    quotas: () => edit(quotas),
    contents: () => edit({ edge: policy.policy }),
    sweep: () => edit(sweep),
    home: () => edit({ home: { server: home.server, share: home.share, sub: home.sub || undefined } }),
    seed: () => edit({ seed: true }),
    drop: () => api.DELETE("/api/v1/replica-sets/{set}/replicas/{replica}", { params: { path, header: under(set) } }),
  }[doing];
  const asked = { quotas: "Change its quotas", contents: "Set which contents it keeps", sweep: "Set how often it is scanned", home: "Put it at another place", seed: "Let it win the first fill", drop: "Take it out of the set" };
  return (
    <SaveForm action={doing === "drop" ? "Take out" : "Save"} danger={doing === "drop"} done={doing === "drop" ? `${r.name} belongs to ${set.name} no more; its files are where they were.` : `${r.name} was changed.`} fields={["intakeQuota", "atticQuota", "sweepMin", "edge.fill", "edge.freePercent", "edge.unusedDays", "edge.keepNewest", "edge.never", "edge.prefetch", "edge.prefetchHours", "edge.refused", "server", "share", "sub"]} onDone={onClose} onCancel={onClose} save={save}>
      {(errors) => (
        <>
          <p className="font-mono text-sm break-all text-soft">{target(r)}</p>
          <Field label="What to do">{(props) => <Select {...props} value={doing} onChange={(v) => setDoing(v as typeof doing)} options={Object.entries(asked).filter(([k]) => (k !== "seed" || (!r.seed && !r.filled)) && (k !== "sweep" || r.swept) && (k !== "contents" || isEdge)).map(([value, label]) => ({ value, label }))} />}</Field>
          {doing === "quotas" && (
            <>
              <TextField label="Intake, in GiB" inputMode="decimal" value={intake} onChange={(e) => setIntake(e.target.value)} error={errors.intakeQuota} help="What may be on its way in at a time; empty for no bound." />
              <TextField label="Attic, in GiB" inputMode="decimal" value={attic} onChange={(e) => setAttic(e.target.value)} error={errors.atticQuota} help="What it may keep; empty for no bound. Beyond it the oldest go first." />
              <WhatFollows set={set.name} change={{ replica: { name: r.name, change: quotas } }} asItIs={{ replica: { name: r.name, change: { intakeQuota: fromGiB(inGiB(r.intakeQuota)), atticQuota: fromGiB(inGiB(r.atticQuota)) } } }} />
            </>
          )}
          {doing === "contents" && <PolicyFields set={set} replica={r} state={policy} errors={errors} />}
          {doing === "sweep" && (
            <>
              <TextField label="Hours between scans" inputMode="decimal" value={hours} onChange={(e) => setHours(e.target.value)} error={errors.sweepMin} help="A scan finds changes made directly in the bucket. The provider charges for its listings." />
              <WhatFollows set={set.name} change={{ replica: { name: r.name, change: sweep } }} asItIs={{ replica: { name: r.name, change: { sweepMin: sweepMinutes(r) } } }} />
            </>
          )}
          {doing === "home" && <><PlaceFields place={home} onChange={setHome} errors={errors} /><p className="text-soft">It is looked at anew there, and what it holds is adopted; the others stay as they are.</p></>}
          {doing === "seed" && <p className="text-soft">All replicas begin anew: what differs from {r.name} goes to their attics. That can be done until anything was carried.</p>}
          {doing === "drop" && <p className="text-soft">Its files stay where they are, those in its attic too. Nothing is carried there or from there any more.</p>}
        </>
      )}
    </SaveForm>
  );
}

type Place = { server: string; share: string; sub: string };

function PlaceFields({ place, onChange, errors }: { place: Place; onChange: (p: Place) => void; errors: Record<string, string> }) {
  const servers = useServers();
  const shares = useShares();
  return (
    <>
      <Field label="Server" error={errors.server}>{(props) => <Select {...props} value={place.server} onChange={(server) => onChange({ ...place, server, share: "" })} options={(servers.data ?? []).map((s) => ({ value: s.name, label: s.name }))} placeholder="Choose a server" />}</Field>
      <Field label="Share" error={errors.share}>{(props) => <Select {...props} value={place.share} onChange={(share) => onChange({ ...place, share })} options={(shares.data ?? []).filter((h) => h.server === place.server && h.kind === "disk" && !h.hidden).map((h) => ({ value: h.name, label: h.name }))} placeholder="Choose a share" />}</Field>
      <Field label="Folder" error={errors.sub} help="It is made when it is missing.">{(props) => <TextInput {...props} className="font-mono" value={place.sub} placeholder="all of it" onChange={(e) => onChange({ ...place, sub: e.target.value })} />}</Field>
    </>
  );
}

/** A further place for a set. */
export function AddReplicaForm({ set, onClose }: { set: ReplicaSet; onClose: () => void }) {
  const [place, setPlace] = useState<Place>({ server: "", share: "", sub: "" });
  const [rights, setRights] = useState("inherit");
  return (
    <SaveForm action="Add" done={`${set.name} is kept in one more place from now on.`} fields={["server", "share", "sub", "rights"]} onDone={onClose} onCancel={onClose}
      save={() => api.POST("/api/v1/replica-sets/{set}/replicas", { params: { path: { set: set.name }, header: under(set) }, body: { server: place.server, share: place.share, sub: place.sub || undefined, rights: rights === "inherit" ? undefined : rights } })}>
      {(errors) => (
        <>
          <PlaceFields place={place} onChange={setPlace} errors={errors} />
          <Field label="If the folder is made" error={errors.rights}>{(props) => <Select {...props} value={rights} onChange={setRights} options={[{ value: "inherit", label: "It inherits permissions from above" }, { value: "seed", label: "It has the permissions of the seed's folder" }]} />}</Field>
        </>
      )}
    </SaveForm>
  );
}

/** What the accounts of a set are at its replicas. */
export function AccountsOfSet({ set, onClose }: { set: ReplicaSet; onClose: () => void }) {
  const query = useReplicaAccounts(set.name);
  const renew = useMutation({ mutationFn: () => api.POST("/api/v1/replica-sets/{set}/accounts", { params: { path: { set: set.name }, header: under(set) } }), onSuccess: onClose });
  if (query.isPending) return <Loading what="the accounts of all replicas" />;
  if (!query.data) return <Trouble error={query.error} retry={() => void query.refetch()} />;
  const stale = query.data.filter((r) => r.stale);
  return (
    <div className="grid gap-4">
      {stale.length > 0 && (
        <div className="border-l-4 border-warn bg-inset px-4 py-3">
          <p><Status tone="warn">old pairs</Status> The map, or accounts of {stale.map((r) => r.server).join(" and ")}, changed since.</p>
          <p className="text-soft">Pairing anew looks at {stale.map((r) => r.replica).join(" and ")} again, and gives what is there the permissions of the set.</p>
          <Button className="mt-2" look="main" disabled={renew.isPending} onClick={() => renew.mutate()}>Pair them anew</Button>
        </div>
      )}
      {renew.error && <Trouble error={renew.error} />}
      <div className="max-h-96 overflow-auto" tabIndex={0} role="group" aria-label="Accounts">
        <table className="w-full border-collapse">
          <thead><tr className="border-y border-ink">{["Replica", "Account of the set", "Account there"].map((h) => <th key={h} scope="col" className="py-1 pr-4 text-left font-medium">{h}</th>)}</tr></thead>
          <tbody>{query.data.flatMap((r) => r.pairs.map((p) => <tr key={r.replica + p.one.sid} className="border-b border-line"><td className="py-1 pr-4">{r.replica}</td><td className="py-1 pr-4">{p.one.name}</td><td className="py-1">{p.other.name}</td></tr>))}</tbody>
        </table>
      </div>
    </div>
  );
}
