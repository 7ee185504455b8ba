import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, etag, got, type Entry, type Location } from "../api/client";
import { useHealth } from "../api/queries";
import { Meanwhile, useDraft } from "../components/draft";
import { SaveForm } from "../components/form";
import { stateTone, Status } from "../components/status";
import { useToast } from "../components/toast";
import { Button, Dialog, Empty, Section, Select, TextField, Trouble } from "../components/ui";
import { ago, target, when } from "../format";
import { nowhere, PlaceFields } from "./addentry";

/** The plan of a replica set of the locations of a signpost. */
const samePlan = (path: string, entry: Entry) =>
  `/replica-plan?${new URLSearchParams([["name", entry.path.split("/").at(-1) ?? ""], ["publish", path], ...(entry.locations ?? []).map((l) => ["place", target(l)])])}`;

type Change = { state?: "open" | "held"; rank?: "first" | "normal" | "last" };

/** One entry: where it leads, and what can be done with it. */
export function EntryPane({ namespace, entry, onGone, onMove }: { namespace: string; entry: Entry; onGone: () => void; onMove: () => void }) {
  const [doing, setDoing] = useState<"add" | "edit" | "remove">();
  const navigate = useNavigate();
  const tell = useToast();
  const close = () => setDoing(undefined);
  const at = (location: Location) => ({ params: { path: { namespace, entry: entry.id, location: location.id }, header: { "If-Match": etag(entry.version) } } });
  const change = useMutation({
    mutationFn: ({ location, body }: { location: Location; body: Change }) => api.PATCH("/api/v1/namespaces/{namespace}/entries/{entry}/locations/{location}", { ...at(location), body }),
    onSuccess: (_, { location, body }) => tell(`${target(location)} is ${body.state ?? `of rank ${body.rank}`}.`),
  });
  const drop = useMutation({
    mutationFn: (location: Location) => api.DELETE("/api/v1/namespaces/{namespace}/entries/{entry}/locations/{location}", at(location)),
    onSuccess: (_, location) => tell(`${target(location)} was removed from this signpost.`),
  });
  const verify = useMutation({
    mutationFn: (location: Location) => got(api.POST("/api/v1/namespaces/{namespace}/entries/{entry}/locations/{location}/verify", { params: { path: { namespace, entry: entry.id, location: location.id } } })),
    onSuccess: (v) => void navigate(`/runs/${v.run.id}`),
  });
  const path = `/${namespace}/${entry.path}`;
  const error = change.error ?? drop.error ?? verify.error;
  return (
    <Section title={entry.kind === "signpost" ? "Signpost" : "Folder"} aside={<code className="line-clamp-2 break-all" title={path}>{path}</code>}>
      {entry.note && <p className="mb-2 line-clamp-3 text-soft" title={entry.note}>{entry.note}</p>}
      {entry.kind === "folder" ? (
        <Empty>A folder of the namespace itself: it holds names and leads nowhere.</Empty>
      ) : (
        <ul className="border-t border-ink" aria-label="Locations">
          {(entry.locations ?? []).map((l) => (
            <LocationRow key={l.id} location={l} only={entry.locations?.length === 1} onChange={(body) => change.mutate({ location: l, body })} onRemove={() => drop.mutate(l)} onVerify={() => verify.mutate(l)} />
          ))}
        </ul>
      )}
      {error && <div className="mt-2"><Trouble error={error} /></div>}
      {entry.kind === "signpost" && <OverTime namespace={namespace} entry={entry} />}
      <div className="mt-3 flex flex-wrap gap-2">
        {entry.kind === "signpost" && <Button onClick={() => setDoing("add")}>Add a location</Button>}
        {(entry.locations?.length ?? 0) > 1 && <Button onClick={() => void navigate(samePlan(path, entry))}>Keep these the same …</Button>}
        <Button onClick={() => setDoing("edit")}>Change …</Button>
        <Button onClick={onMove}>Move …</Button>
        <Button onClick={() => setDoing("remove")}>Remove this entry …</Button>
      </div>
      <Dialog open={doing === "add"} onOpenChange={close} title="Add a location" lead={`Another place that holds what ${path} leads to.`}>
        <AddLocation namespace={namespace} entry={entry} onClose={close} />
      </Dialog>
      <Dialog open={doing === "edit"} onOpenChange={close} title={`Change ${path}`}>
        <EditEntry namespace={namespace} entry={entry} onClose={close} />
      </Dialog>
      <Dialog open={doing === "remove"} onOpenChange={close} title={`Remove ${path}?`} lead="People lose this path at once. No file is touched.">
        <SaveForm action="Remove" danger done={`${path} was removed.`} onDone={onGone} onCancel={close} save={() => api.DELETE("/api/v1/namespaces/{namespace}/entries/{entry}", { params: { path: { namespace, entry: entry.id }, header: { "If-Match": etag(entry.version) } } })} />
      </Dialog>
    </Section>
  );
}

function LocationRow({ location: l, only, onChange, onRemove, onVerify }: { location: Location; only: boolean; onChange: (change: Change) => void; onRemove: () => void; onVerify: () => void }) {
  const name = target(l);
  const held = l.state === "held";
  return (
    <li className="grid grid-cols-[minmax(0,1fr)_auto] items-center gap-x-3 border-b border-line py-1.5">
      <div className="min-w-0">
        <code className="line-clamp-2 font-medium break-all" title={name}>{name}</code>
        <div>
          <Status tone={l.state === "open" && l.why ? "warn" : stateTone(l.state)}>
            {l.state}
            {l.why && `: ${l.why}`}
          </Status>{" "}
          <span className="text-soft">
            at {l.site}
            {l.onlyFor?.length ? `, only for people at ${l.onlyFor.join(", ")}` : ""}
            {l.weight > 1 && `, weight ${l.weight}`}
            {l.health === "read-only" && ", read-only"}
            {l.verified && `, verified ${ago(l.verified)}`}
          </span>
        </div>
      </div>
      <div className="flex items-center">
        <div className="w-28">
          <Select label={`Rank of ${name}`} value={l.rank} onChange={(rank) => onChange({ rank: rank as Change["rank"] })} options={["first", "normal", "last"].map((r) => ({ value: r, label: r }))} />
        </div>
        <Button look="quiet" disabled={only} title={only ? "There is no other location to compare it with" : undefined} onClick={onVerify} aria-label={`Verify ${name}`}>Verify</Button>
        <Button look="quiet" onClick={() => onChange({ state: held ? "open" : "held" })} aria-label={`${held ? "Open" : "Hold"} ${name}`}>{held ? "Open" : "Hold"}</Button>
        <Button look="quiet" disabled={only} title={only ? "A signpost must lead somewhere" : undefined} onClick={onRemove} aria-label={`Remove ${name}`}>Remove</Button>
      </div>
    </li>
  );
}

function AddLocation({ namespace, entry, onClose }: { namespace: string; entry: Entry; onClose: () => void }) {
  const [place, setPlace] = useState(nowhere);
  const [openNow, setOpenNow] = useState(false);
  const save = () =>
    api.POST("/api/v1/namespaces/{namespace}/entries/{entry}/locations", {
      params: { path: { namespace, entry: entry.id }, header: { "If-Match": etag(entry.version) } },
      body: { ...place, sub: place.sub || undefined, openNow },
    });
  return (
    <SaveForm action="Add" busy="Opening the location …" done={`${target(place)} was added.`} fields={["locations"]} save={save} onDone={onClose} onCancel={onClose}>
      {(errors) => (
        <>
          <PlaceFields value={place} onChange={setPlace} error={errors.locations} />
          <label className="flex items-start gap-2">
            <input type="checkbox" className="mt-1 accent-(--span)" checked={openNow} onChange={(e) => setOpenNow(e.target.checked)} />
            <span>
              Open it now
              <span className="block text-sm text-soft">Otherwise it is held: people are kept from it until somebody has made sure that it holds what the others hold.</span>
            </span>
          </label>
        </>
      )}
    </SaveForm>
  );
}

/** How the locations were found until now. */
function OverTime({ namespace, entry }: { namespace: string; entry: Entry }) {
  const query = useHealth(namespace, entry.id);
  const spells = query.data ?? [];
  if (spells.length === 0) return null;
  return (
    <details className="mt-2">
      <summary className="cursor-pointer text-sm text-span">How they were found until now</summary>
      <ul className="mt-1 max-h-56 overflow-auto border-t border-line" tabIndex={0} aria-label="Health over time">
        {spells.map((s, i) => (
          <li key={i} className="grid grid-cols-[minmax(0,1fr)_max-content] gap-x-3 border-b border-line py-0.5 text-sm">
            <span className="min-w-0"><Status tone={s.health === "well" ? "good" : s.health === "read-only" ? "warn" : "bad"}>{s.health.replaceAll("-", " ")}</Status> <code className="break-all">{s.location}</code></span>
            <span className="text-soft">{when(s.from)} – {s.to ? when(s.to) : "now"}</span>
          </li>
        ))}
      </ul>
    </details>
  );
}

function EditEntry({ namespace, entry, onClose }: { namespace: string; entry: Entry; onClose: () => void }) {
  const draft = useDraft({ note: entry.note ?? "", ttl: entry.ttl ? String(entry.ttl) : "", letter: entry.letter ?? "" });
  const { note, ttl, letter } = draft.values;
  const body = entry.kind === "signpost" ? { note, ttl: Number(ttl) || 0, letter } : { note };
  const save = () => api.PATCH("/api/v1/namespaces/{namespace}/entries/{entry}", { params: { path: { namespace, entry: entry.id }, header: { "If-Match": etag(entry.version) } }, body });
  return (
    <SaveForm action="Save" done={`/${namespace}/${entry.path} was changed.`} fields={["note", "ttl", "letter"]} save={save} onDone={onClose} onCancel={onClose}>
      {(errors) => (
        <>
          <Meanwhile draft={draft} names={{ note: "Note", ttl: "Directions may be kept for", letter: "Drive letter" }} />
          <TextField label="Note" value={note} onChange={(e) => draft.set("note", e.target.value)} error={errors.note} />
          {entry.kind === "signpost" && <TextField label="Drive letter" value={letter} onChange={(e) => draft.set("letter", e.target.value.toUpperCase().slice(0, 1))} error={errors.letter} help="From E to Z; empty: the next that is free." />}
          {entry.kind === "signpost" && <TextField label="Directions may be kept for" value={ttl} onChange={(e) => draft.set("ttl", e.target.value)} inputMode="numeric" error={errors.ttl} help="In seconds; empty: as the namespace says." />}
        </>
      )}
    </SaveForm>
  );
}

export function MoveEntry({ namespace, entry, to, onClose }: { namespace: string; entry: Entry; to: string; onClose: () => void }) {
  const [path, setPath] = useState(to);
  const save = () =>
    api.PATCH("/api/v1/namespaces/{namespace}/entries/{entry}", {
      params: { path: { namespace, entry: entry.id }, header: { "If-Match": etag(entry.version) } },
      body: { path: path.replace(/^\/+|\/+$/g, "") },
    });
  return (
    <SaveForm action="Move" done={`/${namespace}/${entry.path} was moved.`} fields={["path"]} save={save} onDone={onClose} onCancel={onClose}>
      {(errors) => <TextField label={`New path in /${namespace}`} mono value={path} onChange={(e) => setPath(e.target.value)} error={errors.path} autoFocus help="Folders above it that are missing are made too." />}
    </SaveForm>
  );
}
