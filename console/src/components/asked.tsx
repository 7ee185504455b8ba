// What a replica set is to be made of, as somebody types it. It is kept in the
// browser, so that it can be left and gone back to.
import { useCallback, useEffect, useState } from "react";
import type { NewReplicaSet } from "../api/client";
import { useAccountMaps, useServers, useShares } from "../api/queries";
import { fromGiB, inGiB, layouts } from "../format";
import { Button, Field, Select, TextField, TextInput } from "./ui";
import { CalendarField } from "./week";

type DraftPlace = { server: string; share: string; sub: string; intake: string; attic: string };
type DraftLane = { from: number; to: number; calendar: string };
type Draft = { name: string; places: DraftPlace[]; seed: number; layout: string; lanes: DraftLane[]; calendar: string; leaveOut: string; only: string; permissions: string; accountMap: string; rights: string; atticDays: string; removalLimit: string; publish: string };

/** A place without quotas, as long as nobody gives it some. */
export const placeOf = (p: Partial<DraftPlace>): DraftPlace => ({ server: "", share: "", sub: "", intake: "", attic: "", ...p });

export const empty: Draft = { name: "", places: [placeOf({}), placeOf({})], seed: 0, layout: "mesh", lanes: [], calendar: "full", leaveOut: "*.tmp, ~$*", only: "", permissions: "carry", accountMap: "", rights: "inherit", atticDays: "", removalLimit: "", publish: "" };

const shelf = "bspan-replica-plan";

/** The draft, as it was when the page was left. */
export function useDraftOnShelf(asked: NewReplicaSet | undefined): [Draft, (change: Partial<Draft>) => void, () => void] {
  const [draft, setDraft] = useState<Draft>(() => {
    try {
      const kept = { ...empty, ...(JSON.parse(localStorage.getItem(shelf) ?? "{}") as Partial<Draft>) };
      return { ...kept, places: kept.places.map(placeOf) };
    } catch {
      return empty;
    }
  });
  useEffect(() => localStorage.setItem(shelf, JSON.stringify(draft)), [draft]);
  // A plan that is gone back to brings what it was asked for.
  const [taken, setTaken] = useState<NewReplicaSet>();
  if (asked && asked !== taken && !taken) {
    setTaken(asked);
    setDraft(draftOf(asked));
  }
  const put = useCallback((change: Partial<Draft>) => setDraft((d) => ({ ...d, ...change })), []);
  return [draft, put, () => setDraft(empty)];
}

function draftOf(asked: NewReplicaSet): Draft {
  const places = asked.replicas.map((r) => placeOf({ server: r.server, share: r.share, sub: r.sub ?? "", intake: inGiB(r.intakeQuota ?? 0), attic: inGiB(r.atticQuota ?? 0) }));
  const names = namesOf(places);
  return {
    name: asked.name,
    places,
    seed: Math.max(0, asked.replicas.findIndex((r) => r.seed)),
    layout: asked.layout ?? "mesh",
    lanes: (asked.lanes ?? []).map((l) => ({ from: names.indexOf(l.from), to: names.indexOf(l.to), calendar: l.calendar ?? "" })),
    calendar: asked.calendar ?? "full",
    leaveOut: (asked.filter?.leaveOut ?? []).join(", "),
    only: (asked.filter?.only ?? []).join(", "),
    permissions: asked.permissions ?? "carry",
    accountMap: asked.accountMap ?? "",
    rights: asked.replicas.find((r) => r.rights)?.rights ?? "inherit",
    atticDays: asked.atticDays ? String(asked.atticDays) : "",
    removalLimit: asked.removalLimit === undefined ? "" : String(asked.removalLimit),
    publish: asked.publish ?? "",
  };
}

/** How the service names replicas: as their servers, with the share where one server has several. */
function namesOf(places: DraftPlace[]): string[] {
  return places.map((p) => (places.filter((o) => o.server === p.server).length > 1 ? `${p.server} ${p.share} ${p.sub}`.trim().replaceAll("/", " ") : p.server));
}

const patterns = (text: string) => text.split(",").map((p) => p.trim()).filter(Boolean);

/** As the service writes it down, so that what was asked before can be told to be the same. */
export const bodyOf = (d: Draft): NewReplicaSet => {
  const names = namesOf(d.places);
  const some = <T,>(list: T[]) => (list.length > 0 ? list : undefined);
  return {
    name: d.name,
    replicas: d.places.map((p, i) => ({ server: p.server, share: p.share, sub: p.sub || undefined, rights: d.rights === "inherit" ? undefined : d.rights, seed: i === d.seed || undefined, intakeQuota: fromGiB(p.intake) || undefined, atticQuota: fromGiB(p.attic) || undefined })),
    layout: d.layout as NewReplicaSet["layout"],
    lanes: some(d.lanes.map((l) => ({ from: names[l.from] ?? "", to: names[l.to] ?? "", calendar: l.calendar || undefined }))),
    calendar: d.calendar,
    filter: { leaveOut: some(patterns(d.leaveOut)), only: some(patterns(d.only)) },
    permissions: d.permissions as NewReplicaSet["permissions"],
    accountMap: d.permissions === "map" ? d.accountMap || undefined : undefined,
    atticDays: d.atticDays === "" ? undefined : Number(d.atticDays) || -1,
    removalLimit: d.removalLimit === "" ? undefined : Number(d.removalLimit),
    publish: d.publish || undefined,
  };
};

type Part = { draft: Draft; change: (c: Partial<Draft>) => void; errors: Record<string, string> };

/** All that a set is made of. intake is how much the plan found that intakes need. */
export function Asked({ draft, change, errors, intake }: Part & { intake?: number }) {
  const maps = useAccountMaps();
  return (
    <div className="grid gap-5">
      <div className="grid max-w-3xl grid-cols-2 gap-4">
        <TextField label="Name of the set" value={draft.name} onChange={(e) => change({ name: e.target.value })} error={errors.name} />
      </div>
      <Places draft={draft} change={change} errors={errors} intake={intake} />
      <div className="grid max-w-3xl grid-cols-2 gap-4">
        <Field label="Layout" error={errors.layout}>{(props) => <Select {...props} value={draft.layout} onChange={(layout) => change({ layout })} options={[...layouts, { value: "custom", label: "Custom: the lanes below" }]} />}</Field>
        <Field label="Permissions" error={errors.permissions}>{(props) => <Select {...props} value={draft.permissions} onChange={(permissions) => change({ permissions })} options={[{ value: "carry", label: "The same everywhere" }, { value: "map", label: "Through an account map" }, { value: "leave", label: "Each replica has its own" }]} />}</Field>
        {draft.permissions === "map" && <Field label="Account map" error={errors.accountMap} help="They are made on the page of the servers.">{(props) => <Select {...props} value={draft.accountMap} onChange={(accountMap) => change({ accountMap })} options={(maps.data ?? []).map((m) => ({ value: m.name, label: m.name }))} placeholder={maps.data?.length === 0 ? "There is none yet" : "Choose a map"} />}</Field>}
        <Field label="Folders that are made">{(props) => <Select {...props} value={draft.rights} onChange={(rights) => change({ rights })} options={[{ value: "inherit", label: "Inherit permissions from above" }, { value: "seed", label: "Have the permissions of the seed's folder" }, ...(["inherit", "seed"].includes(draft.rights) ? [] : [{ value: draft.rights, label: draft.rights }])]} />}</Field>
        <TextField label="Attics keep things for, in days" inputMode="numeric" value={draft.atticDays} placeholder="60" onChange={(e) => change({ atticDays: e.target.value })} error={errors.atticDays} />
        <TextField label="Removal limit, in percent" inputMode="numeric" value={draft.removalLimit} placeholder="none" onChange={(e) => change({ removalLimit: e.target.value })} error={errors.removalLimit} help="When more of a replica is removed within an hour, the removals are pending until somebody decides." />
      </div>
      <div className="grid max-w-3xl grid-cols-2 gap-4">
        <TextField label="Left out" mono value={draft.leaveOut} onChange={(e) => change({ leaveOut: e.target.value })} error={errors["filter.leaveOut"]} help="Patterns of names that stay where they are, with commas between; of folders with a slash, as cache/." />
        <TextField label="Only" mono value={draft.only} placeholder="all files" onChange={(e) => change({ only: e.target.value })} error={errors["filter.only"]} help="Patterns of the files that are kept the same, such as *.pdf; others stay where they are." />
      </div>
      <div className="max-w-3xl"><TextField label="Signpost" mono value={draft.publish} placeholder="none" onChange={(e) => change({ publish: e.target.value })} error={errors.publish} help="A path such as /trust/herbarium that is to lead to all replicas; those that were not verified are held." /></div>
      <div className="max-w-3xl"><CalendarField label="Calendar" value={draft.calendar} onChange={(calendar) => change({ calendar })} error={errors.calendar} /></div>
      <Lanes draft={draft} change={change} errors={errors} />
    </div>
  );
}

/** Whether an error belongs to a field of a replica that is shown. */
const inPlaces = (errors: Record<string, string>) => Object.keys(errors).some((name) => /^replicas\[\d+\]\.(server|share|sub|intakeQuota|atticQuota)$/.test(name));

function Places({ draft, change, errors, intake }: Part & { intake?: number }) {
  const servers = useServers();
  const shares = useShares();
  const place = (i: number, c: Partial<DraftPlace>) => change({ places: draft.places.map((p, k) => (k === i ? { ...p, ...c } : p)) });
  // Who leaves a replica out leaves out its lanes, and the others move up.
  const leaveOut = (i: number) => {
    const up = (k: number) => (k > i ? k - 1 : k);
    change({ places: draft.places.filter((_, k) => k !== i), seed: draft.seed === i ? 0 : up(draft.seed), lanes: draft.lanes.filter((l) => l.from !== i && l.to !== i).map((l) => ({ ...l, from: up(l.from), to: up(l.to) })) });
  };
  return (
    <fieldset className="grid gap-2">
      <legend className="mb-1 font-medium">Replicas</legend>
      {errors.replicas && !inPlaces(errors) && <p className="text-bad">{errors.replicas}</p>}
      {draft.places.map((p, i) => (
        <div key={i} className="grid max-w-5xl grid-cols-[1fr_1fr_1fr_7rem_7rem_auto_auto] items-start gap-3">
          <Field label={`Server ${i + 1}`} error={errors[`replicas[${i}].server`]}>{(props) => <Select {...props} value={p.server} onChange={(server) => place(i, { server, share: "" })} options={(servers.data ?? []).map((s) => ({ value: s.name, label: s.name }))} placeholder="Choose a server" />}</Field>
          <Field label={`Share ${i + 1}`} error={errors[`replicas[${i}].share`]}>{(props) => <Select {...props} value={p.share} onChange={(share) => place(i, { share })} options={(shares.data ?? []).filter((h) => h.server === p.server && h.kind === "disk" && !h.hidden).map((h) => ({ value: h.name, label: h.name }))} placeholder="Choose a share" />}</Field>
          <Field label={`Folder ${i + 1}`} error={errors[`replicas[${i}].sub`]}>{(props) => <TextInput {...props} className="font-mono" value={p.sub} placeholder="all of it" onChange={(e) => place(i, { sub: e.target.value })} />}</Field>
          <Field label="Intake, GiB" error={errors[`replicas[${i}].intakeQuota`]}>{(props) => <TextInput {...props} aria-label={`Intake ${i + 1}, in GiB`} inputMode="decimal" value={p.intake} placeholder={intake ? inGiB(intake) : "worked out"} onChange={(e) => place(i, { intake: e.target.value })} />}</Field>
          <Field label="Attic, GiB" error={errors[`replicas[${i}].atticQuota`]}>{(props) => <TextInput {...props} aria-label={`Attic ${i + 1}, in GiB`} inputMode="decimal" value={p.attic} placeholder="no bound" onChange={(e) => place(i, { attic: e.target.value })} />}</Field>
          <label className="mt-7 flex h-9 items-center gap-1.5"><input type="radio" name="seed" className="accent-(--span)" checked={draft.seed === i} onChange={() => change({ seed: i })} />seed</label>
          <div className="mt-7 flex h-9 items-center"><Button look="quiet" disabled={draft.places.length <= 2} onClick={() => leaveOut(i)} aria-label={`Leave out replica ${i + 1}`}>Leave out</Button></div>
        </div>
      ))}
      <p className="text-sm text-soft">The content of the seed wins the first fill. A folder that is missing is made. What may be on its way in at a time is worked out from the largest files, unless you say how much.</p>
      <div><Button onClick={() => change({ places: [...draft.places, placeOf({})] })}>Add a replica</Button></div>
    </fieldset>
  );
}

/** Lanes with a calendar of their own, and those of a custom layout. */
function Lanes({ draft, change, errors }: Part) {
  const names = namesOf(draft.places);
  const options = names.map((name, i) => ({ value: String(i), label: name || `Replica ${i + 1}` }));
  const lane = (i: number, c: Partial<DraftLane>) => change({ lanes: draft.lanes.map((l, k) => (k === i ? { ...l, ...c } : l)) });
  const custom = draft.layout === "custom";
  return (
    <fieldset className="grid gap-4">
      <legend className="mb-1 font-medium">{custom ? "Lanes" : "Lanes with a calendar of their own"}</legend>
      {errors.lanes && !Object.keys(errors).some((name) => name.startsWith("lanes[")) && <p className="text-bad">{errors.lanes}</p>}
      {draft.lanes.map((l, i) => (
        <div key={i} className="grid max-w-3xl gap-3 border-l border-line pl-3">
          <div className="grid grid-cols-[1fr_1fr_auto] items-end gap-3">
            <Field label={`Lane ${i + 1}, from`} error={errors[`lanes[${i}].from`]}>{(props) => <Select {...props} value={String(l.from)} onChange={(from) => lane(i, { from: Number(from) })} options={options} />}</Field>
            <Field label={`Lane ${i + 1}, to`} error={errors[`lanes[${i}].to`]}>{(props) => <Select {...props} value={String(l.to)} onChange={(to) => lane(i, { to: Number(to) })} options={options} />}</Field>
            <Button look="quiet" onClick={() => change({ lanes: draft.lanes.filter((_, k) => k !== i) })} aria-label={`Leave out lane ${i + 1}`}>Leave out</Button>
          </div>
          {l.calendar === "" ? (
            <div><Button onClick={() => lane(i, { calendar: draft.calendar })} aria-label={`Give it a calendar of its own: lane ${i + 1}`}>Give it a calendar of its own</Button></div>
          ) : (
            <CalendarField label={`Calendar of lane ${i + 1}`} value={l.calendar} onChange={(calendar) => lane(i, { calendar })} error={errors[`lanes[${i}].calendar`]} />
          )}
        </div>
      ))}
      <div><Button onClick={() => change({ lanes: [...draft.lanes, { from: 0, to: 1, calendar: custom ? "" : draft.calendar }] })}>Add a lane</Button></div>
    </fieldset>
  );
}
