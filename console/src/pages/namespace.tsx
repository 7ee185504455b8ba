import { useEffect, useMemo, useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { api, etag, type Entry, type Namespace, type Seen } from "../api/client";
import { useEntries, useLens, useNamespaces, useSites } from "../api/queries";
import { Meanwhile, useDraft } from "../components/draft";
import { SaveForm } from "../components/form";
import { stateTone, Status } from "../components/status";
import { Tree, type Node } from "../components/tree";
import { Button, Check, Dialog, Empty, Field, Loading, PageHead, Section, Select, TextField, TextInput, Trouble } from "../components/ui";
import { plural, target } from "../format";
import { AddEntry } from "./addentry";
import { Drives } from "./drives";
import { EntryPane, MoveEntry } from "./entry";
import { Fronts } from "./fronts";
import { Flaws, History } from "./upkeep";
import { WherePanel } from "./where";

export function NamespacePage() {
  const { namespace = "" } = useParams();
  const spaces = useNamespaces();
  const entries = useEntries(namespace);
  const [params, setParams] = useSearchParams();
  const [adding, setAdding] = useState(false);
  const [editing, setEditing] = useState(false);
  const [removing, setRemoving] = useState(false);
  const [moving, setMoving] = useState<{ entry: Entry; to: string }>();
  if (entries.isPending || spaces.isPending) return <Loading what={`/${namespace}`} />;
  const space = spaces.data?.find((n) => n.name === namespace);
  if (!entries.data || !space) return <Trouble error={entries.error ?? spaces.error ?? `There is no namespace /${namespace}.`} retry={() => void entries.refetch()} />;
  const chosen = entries.data.find((e) => String(e.id) === params.get("entry"));
  const choose = (id?: string) => setParams(id ? { entry: id } : {}, { replace: true });
  const add = <Button look="main" onClick={() => setAdding(true)}>Add an entry</Button>;
  return (
    <>
      <PageHead title={<code>/{namespace}</code>} verdict={<Verdict entries={entries.data} />}>
        {add}
        <Button onClick={() => setEditing(true)}>Change</Button>
        <Button onClick={() => setRemoving(true)}>Remove …</Button>
      </PageHead>
      <div className="grid gap-x-10 lg:grid-cols-[minmax(0,5fr)_minmax(0,6fr)]">
        <div>
          <Section title="Entries" aside={plural(entries.data.length, "entry", "entries")}>
            <EntryTree namespace={namespace} entries={entries.data} chosen={params.get("entry") ?? undefined} onChoose={choose} onMove={(entry, to) => setMoving({ entry, to })} add={add} />
          </Section>
        </div>
        <div>
          {chosen ? <EntryPane key={chosen.id} namespace={namespace} entry={chosen} onGone={() => choose()} onMove={() => setMoving({ entry: chosen, to: chosen.path })} /> : entries.data.length > 0 && <Section title="Entry"><Empty>Choose an entry to see where it leads.</Empty></Section>}
          <WherePanel namespace={namespace} entry={chosen} />
        </div>
      </div>
      <Fronts namespace={namespace} />
      <Drives namespace={namespace} />
      <Flaws namespace={namespace} />
      <History namespace={namespace} />
      <Dialog open={moving !== undefined} onOpenChange={() => setMoving(undefined)} title={`Move /${namespace}/${moving?.entry.path ?? ""}?`} lead="Everything below it moves with it, and people find it under the new path at once. No file is touched.">
        {moving && <MoveEntry namespace={namespace} entry={moving.entry} to={moving.to} onClose={() => setMoving(undefined)} />}
      </Dialog>
      <Dialog open={adding} onOpenChange={setAdding} title="Add an entry" lead="Folders above it that are missing are made too.">
        <AddEntry namespace={namespace} under={chosen} onClose={() => setAdding(false)} onAdded={(id) => choose(String(id))} />
      </Dialog>
      <Dialog open={editing} onOpenChange={setEditing} title={`Change /${namespace}`}>
        <EditSpace space={space} onClose={() => setEditing(false)} />
      </Dialog>
      <Remove space={space} open={removing} onOpenChange={setRemoving} />
    </>
  );
}

function Verdict({ entries }: { entries: Entry[] }) {
  const signposts = entries.filter((e) => e.kind === "signpost");
  if (signposts.length === 0) return <span className="text-soft">Leads nowhere yet.</span>;
  const dead = signposts.filter((e) => !e.locations?.some((l) => l.state === "open"));
  const failing = signposts.filter((e) => e.locations?.some((l) => l.state === "failing"));
  if (dead.length) return <Status tone="bad">{plural(dead.length, "signpost")} of {signposts.length} {dead.length === 1 ? "leads" : "lead"} nowhere.</Status>;
  if (failing.length) return <Status tone="warn">{plural(failing.length, "signpost")} {failing.length === 1 ? "has" : "have"} a failing location; people are led to another.</Status>;
  return <Status tone="good">{signposts.length === 1 ? "Its signpost leads" : `All ${signposts.length} signposts lead`} somewhere.</Status>;
}

function EntryTree({ namespace, entries, chosen, onChoose, onMove, add }: { namespace: string; entries: Entry[]; chosen?: string; onChoose: (id: string) => void; onMove: (entry: Entry, to: string) => void; add: React.ReactNode }) {
  const [filter, setFilter] = useState("");
  const [lens, setLens] = useState<Lens>({ from: "", as: "", through: "gateway" });
  const seen = useLens(namespace, lens.from, lens.as, lens.from === "" ? "gateway" : lens.through);
  const looking = lens.from !== "" || lens.as !== "";
  const views = useMemo(() => (looking && seen.data ? new Map(seen.data.map((s) => [s.entry, s])) : undefined), [looking, seen.data]);
  const nodes = useMemo(() => toNodes(entries, filter), [entries, filter]);
  if (entries.length === 0) return <Empty action={add}>The namespace is empty.</Empty>;
  return (
    <>
      <TextInput type="search" aria-label="Filter entries" placeholder="Filter entries" value={filter} onChange={(e) => setFilter(e.target.value)} className="mb-1.5 max-w-64" />
      <LensFields lens={lens} onChange={setLens} />
      {looking && seen.isFetching && !seen.data && <Loading what="what they see" />}
      {looking && seen.error && <div className="mb-2"><Trouble error={seen.error} /></div>}
      {nodes.length === 0 ? <p className="py-4 text-soft">Nothing matches “{filter}”.</p> : <Tree label="Entries" nodes={nodes} chosen={chosen} onChoose={onChoose} row={(e) => <EntryRow entry={e} seen={views?.get(e.id)} />} mayMove={mayMove} onMove={(item, onto) => onMove(item, `${onto.path}/${nameOf(item)}`)} />}
    </>
  );
}

/** The nodes of the tree; with a filter, what matches and the folders above it. */
function toNodes(entries: Entry[], filter: string): Node<Entry>[] {
  const wanted = filter.trim().toLowerCase();
  const ids = new Map(entries.map((e) => [e.path.toLowerCase(), String(e.id)]));
  const above = (path: string) => path.slice(0, Math.max(0, path.lastIndexOf("/"))).toLowerCase();
  const kept = new Set<string>();
  for (const e of entries) {
    if (wanted && ![e.path, e.note ?? "", ...(e.locations ?? []).map(target)].some((text) => text.toLowerCase().includes(wanted))) continue;
    for (let path = e.path.toLowerCase(); path !== "" && !kept.has(path); path = above(path)) kept.add(path);
  }
  const parents = new Set([...kept].map(above));
  return entries
    .filter((e) => kept.has(e.path.toLowerCase()))
    .map((e) => ({ id: String(e.id), parent: ids.get(above(e.path)) ?? "", item: e, branch: parents.has(e.path.toLowerCase()) }));
}

/** A folder takes what is not in it already, and not above it. */
const mayMove = (item: Entry, onto: Entry) => onto.kind === "folder" && !`${onto.path}/`.toLowerCase().startsWith(`${item.path}/`.toLowerCase()) && item.path !== `${onto.path}/${nameOf(item)}`;

const nameOf = (e: Entry) => e.path.slice(e.path.lastIndexOf("/") + 1);

interface Lens {
  from: string;
  as: string;
  through: "gateway" | "front";
}

/** The lens: the tree as somebody sees it from where they stand. */
function LensFields({ lens, onChange }: { lens: Lens; onChange: (lens: Lens) => void }) {
  const sites = useSites();
  const [as, setAs] = useState(lens.as);
  useEffect(() => {
    const later = setTimeout(() => as.trim() !== lens.as && onChange({ ...lens, as: as.trim() }), 500);
    return () => clearTimeout(later);
  }, [as, lens, onChange]);
  return (
    <div className="mb-2 grid grid-cols-3 gap-3">
      <Field label="Seen from">{(props) => <Select {...props} value={lens.from || everywhere} onChange={(from) => onChange({ ...lens, from: from === everywhere ? "" : from })} options={[everywhere, ...(sites.data ?? []).map((s) => s.name)].map((name) => ({ value: name, label: name }))} />}</Field>
      <Field label="Seen through">{(props) => <Select {...props} value={lens.through} onChange={(through) => onChange({ ...lens, through: through === "front" ? "front" : "gateway" })} options={[{ value: "gateway", label: "the gateway" }, { value: "front", label: "the front there" }]} />}</Field>
      <TextField label="Seen by" value={as} onChange={(e) => setAs(e.target.value)} placeholder="a person or group" />
    </div>
  );
}

const everywhere = "(anywhere)";

function EntryRow({ entry, seen }: { entry: Entry; seen?: Seen }) {
  const name = nameOf(entry);
  const locations = entry.locations ?? [];
  const states = ["open", "failing", "held"].filter((s) => locations.some((l) => l.state === s));
  return (
    <span className="flex min-w-0 flex-1 items-baseline justify-between gap-4">
      <span className="truncate" title={entry.path}>
        {name}
        {entry.kind === "folder" && "/"}
      </span>
      {seen && (
        <span className="min-w-0 truncate text-sm" title={seen.closed ?? seen.reason}>
          {seen.closed ? <Status tone="held">{seen.closed}</Status> : <><code>{seen.location}</code>{seen.level && <span className="font-medium"> {seen.level}</span>}</>}
        </span>
      )}
      <span className={`shrink-0 gap-3 text-sm ${seen ? "hidden" : "flex"}`}>
        {states.map((s) => (
          <Status key={s} tone={stateTone(s)}>
            {locations.filter((l) => l.state === s).length} {s}
          </Status>
        ))}
      </span>
    </span>
  );
}

function EditSpace({ space, onClose }: { space: Namespace; onClose: () => void }) {
  const draft = useDraft({ note: space.note ?? "", ttl: String(space.ttl), returns: space.returns as string, hiding: space.hiding });
  const { note, ttl, returns, hiding } = draft.values;
  const save = () => api.PATCH("/api/v1/namespaces/{namespace}", { params: { path: { namespace: space.name }, header: { "If-Match": etag(space.version) } }, body: { note, ttl: Number(ttl) || 0, returns: returns === "later" ? "later" : "at-once", hiding } });
  return (
    <SaveForm action="Save" done={`/${space.name} was changed.`} fields={["note", "ttl"]} save={save} onDone={onClose} onCancel={onClose}>
      {(errors) => (
        <>
          <Meanwhile draft={draft} names={{ note: "Note", ttl: "Directions may be kept for", returns: "People come back", hiding: "Hiding" }} />
          <TextField label="Note" value={note} onChange={(e) => draft.set("note", e.target.value)} error={errors.note} />
          <TextField label="Directions may be kept for" value={ttl} onChange={(e) => draft.set("ttl", e.target.value)} inputMode="numeric" error={errors.ttl} help="In seconds, from 1 to 86,400." />
          <Field label="When a preferred location is well again, people come back">
            {(props) => <Select {...props} value={returns} onChange={(r) => draft.set("returns", r)} options={[{ value: "at-once", label: "at once" }, { value: "later", label: "when their directions run out" }]} />}
          </Field>
          <Check label="Let people see only what they may open" checked={hiding} onChange={(on) => draft.set("hiding", on)} />
        </>
      )}
    </SaveForm>
  );
}

function Remove({ space, open, onOpenChange }: { space: Namespace; open: boolean; onOpenChange: (open: boolean) => void }) {
  const navigate = useNavigate();
  const save = () => api.DELETE("/api/v1/namespaces/{namespace}", { params: { path: { namespace: space.name }, query: { withEntries: true }, header: { "If-Match": etag(space.version) } } });
  return (
    <Dialog open={open} onOpenChange={onOpenChange} title={`Remove /${space.name}?`} lead={`Its ${plural(space.folders, "folder")} and ${plural(space.signposts, "signpost")} go with it, and people lose these paths at once. No file is touched.`}>
      <SaveForm action="Remove" danger done={`/${space.name} was removed.`} save={save} onDone={() => void navigate("/namespaces")} onCancel={() => onOpenChange(false)} />
    </Dialog>
  );
}
