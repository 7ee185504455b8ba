import { useMemo, useState } from "react";
import { api, etag, Problem, type Leg, type Site } from "../api/client";
import { useLegs, useSites } from "../api/queries";
import { Meanwhile, useDraft } from "../components/draft";
import { SaveForm } from "../components/form";
import { SpanStrip } from "../components/span";
import { DataTable, type Column } from "../components/table";
import { Button, Check, Dialog, Field, PageHead, Section, Select, TextField } from "../components/ui";

type Doing = { kind: "add" } | { kind: "remove"; site: Site } | { kind: "link"; leg?: Leg } | { kind: "unlink"; leg: Leg };

export function SitesPage() {
  const sites = useSites();
  const legs = useLegs();
  const [doing, setDoing] = useState<Doing>();
  const siteColumns = useMemo<Column<Site>[]>(
    () => [
      { head: "Site", by: (s) => s.name, cell: (s) => <span className="font-medium whitespace-nowrap">{s.name}</span> },
      { head: "Servers", right: true, by: (s) => s.servers, cell: (s) => s.servers },
      { head: "Note", wide: true, by: (s) => s.note ?? "", cell: (s) => <span className="text-soft">{s.note}</span> },
      { head: "Actions", cell: (s) => <Button look="quiet" onClick={() => setDoing({ kind: "remove", site: s })} aria-label={`Remove ${s.name}`}>Remove …</Button> },
    ],
    [],
  );
  const legColumns = useMemo<Column<Leg>[]>(
    () => [
      { head: "Between", by: (l) => l.from + l.to, wide: true, cell: (l) => <SpanStrip compact from={l.from} to={l.to} deck="open" mbit={l.mbit} label={`${l.from} and ${l.to}`} /> },
      { head: "Mbit/s", right: true, by: (l) => l.mbit, cell: (l) => <>{l.mbit}{l.backMbit ? <span className="block text-sm text-soft">back {l.backMbit}</span> : null}</> },
      { head: "Round trip, ms", right: true, by: (l) => l.rttMs, cell: (l) => l.rttMs },
      { head: "Cost", right: true, by: (l) => l.cost, cell: (l) => <>{l.cost}{l.backCost ? <span className="block text-sm text-soft">back {l.backCost}</span> : null}</> },
      {
        head: "Actions",
        cell: (l) => (
          <span className="whitespace-nowrap">
            <Button look="quiet" onClick={() => setDoing({ kind: "link", leg: l })} aria-label={`Change the leg between ${l.from} and ${l.to}`}>Change</Button>
            <Button look="quiet" onClick={() => setDoing({ kind: "unlink", leg: l })} aria-label={`Remove the leg between ${l.from} and ${l.to}`}>Remove …</Button>
          </span>
        ),
      },
    ],
    [],
  );
  const add = <Button look="main" onClick={() => setDoing({ kind: "add" })}>Add a site</Button>;
  const link = <Button onClick={() => setDoing({ kind: "link" })}>Link two sites</Button>;
  const close = () => setDoing(undefined);
  return (
    <>
      <PageHead title="Sites" verdict={<span className="text-soft">Where servers and people are. Directions prefer what is near, counted by the cost of the legs between.</span>}>
        {add}
        {link}
      </PageHead>
      <Section title="Places">
        <DataTable what="sites" query={sites} columns={siteColumns} keyOf={(s) => s.name} empty="There is no site yet. A site is a place with servers and people." emptyAction={add} />
      </Section>
      <Section title="Legs">
        <DataTable what="legs" query={legs} columns={legColumns} keyOf={(l) => l.from + "/" + l.to} empty="No sites are linked yet, so directions cannot tell near from far." emptyAction={link} />
      </Section>
      <Dialog open={doing?.kind === "add"} onOpenChange={close} title="Add a site">
        <AddSite onClose={close} />
      </Dialog>
      <Dialog open={doing?.kind === "link"} onOpenChange={close} title={doing?.kind === "link" && doing.leg ? "Change the leg" : "Link two sites"}>
        {doing?.kind === "link" && <LegForm leg={(doing.leg && legs.data?.find((l) => l.from === doing.leg?.from && l.to === doing.leg.to)) ?? doing.leg} sites={sites.data ?? []} legs={legs.data ?? []} onClose={close} />}
      </Dialog>
      <Dialog open={doing?.kind === "remove"} onOpenChange={close} title={`Remove ${doing?.kind === "remove" ? doing.site.name : ""}?`} lead="Its legs go with it. While servers stand there, it stays.">
        {doing?.kind === "remove" && (
          <SaveForm action="Remove" danger done={`${doing.site.name} was removed.`} onDone={close} onCancel={close} save={() => api.DELETE("/api/v1/sites/{site}", { params: { path: { site: doing.site.name }, header: { "If-Match": etag(doing.site.version) } } })} />
        )}
      </Dialog>
      <Dialog open={doing?.kind === "unlink"} onOpenChange={close} title="Remove the leg?" lead="Directions then no longer know the way between these sites, unless other legs lead there.">
        {doing?.kind === "unlink" && (
          <SaveForm action="Remove" danger done="The leg was removed." onDone={close} onCancel={close} save={() => api.DELETE("/api/v1/legs/{from}/{to}", { params: { path: ends(doing.leg), header: { "If-Match": etag(doing.leg.version ?? 0) } } })} />
        )}
      </Dialog>
    </>
  );
}

const ends = ({ from, to }: { from: string; to: string }) => ({ from, to });

function AddSite({ onClose }: { onClose: () => void }) {
  const [name, setName] = useState("");
  const [note, setNote] = useState("");
  return (
    <SaveForm action="Add" done={`${name} was added.`} fields={["name", "note"]} onDone={onClose} onCancel={onClose} save={() => api.POST("/api/v1/sites", { body: { name, note: note || undefined } })}>
      {(errors) => (
        <>
          <TextField label="Name" value={name} onChange={(e) => setName(e.target.value)} error={errors.name} autoFocus />
          <TextField label="Note" value={note} onChange={(e) => setNote(e.target.value)} error={errors.note} />
        </>
      )}
    </SaveForm>
  );
}

function LegForm({ leg, sites, legs, onClose }: { leg?: Leg; sites: Site[]; legs: Leg[]; onClose: () => void }) {
  const text = (n: number | undefined) => (n ? String(n) : "");
  const draft = useDraft({ from: leg?.from ?? "", to: leg?.to ?? "", mbit: text(leg?.mbit), rttMs: text(leg?.rttMs), cost: text(leg?.cost), backMbit: text(leg?.backMbit), backCost: text(leg?.backCost) });
  const v = draft.values;
  const [oneWay, setOneWay] = useState(Boolean(leg?.backMbit || leg?.backCost));
  const save = () => {
    if (!v.from || !v.to) throw new Problem(422, "Choose two sites.", "", { [v.from ? "to" : "from"]: "choose a site" });
    const header = leg?.version ? { "If-Match": etag(leg.version) } : undefined;
    const back = oneWay ? { backMbit: Number(v.backMbit) || undefined, backCost: Number(v.backCost) || undefined } : {};
    return api.PUT("/api/v1/legs/{from}/{to}", { params: { path: ends(v), header }, body: { mbit: Number(v.mbit), rttMs: Number(v.rttMs), cost: Number(v.cost), ...back } });
  };
  const like = (which: string) => {
    const l = legs[Number(which)];
    if (!l) return;
    draft.set("mbit", text(l.mbit));
    draft.set("rttMs", String(l.rttMs));
    draft.set("cost", text(l.cost));
    draft.set("backMbit", text(l.backMbit));
    draft.set("backCost", text(l.backCost));
    setOneWay(Boolean(l.backMbit || l.backCost));
  };
  const options = sites.map((s) => ({ value: s.name, label: s.name }));
  const number = (name: "mbit" | "rttMs" | "cost" | "backMbit" | "backCost", label: string, error: string | undefined) => <TextField label={label} inputMode="decimal" value={v[name]} onChange={(e) => draft.set(name, e.target.value)} error={error} />;
  return (
    <SaveForm action="Save" done="The leg was saved." fields={Object.keys(v)} onDone={onClose} onCancel={onClose} save={save}>
      {(errors) => (
        <>
          <Meanwhile draft={draft} names={{ mbit: "Speed", rttMs: "Round trip", cost: "Cost", backMbit: "Speed back", backCost: "Cost back" }} />
          <div className="grid grid-cols-2 gap-4">
            {(["from", "to"] as const).map((end) => (
              <Field key={end} label={end === "from" ? "One site" : "The other"} error={errors[end]}>
                {(props) => leg ? <p {...props}>{v[end]}</p> : <Select {...props} value={v[end]} onChange={(name) => draft.set(end, name)} options={options} placeholder="Choose a site" />}
              </Field>
            ))}
          </div>
          {!leg && legs.length > 0 && (
            <Field label="Like the leg between">
              {(props) => <Select {...props} value="" onChange={like} options={legs.map((l, i) => ({ value: String(i), label: `${l.from} and ${l.to}: ${l.mbit} Mbit/s, ${l.rttMs} ms, cost ${l.cost}` }))} placeholder="Take the figures of another leg" />}
            </Field>
          )}
          <div className="grid grid-cols-3 gap-4">
            {number("mbit", "Speed, Mbit/s", errors.mbit)}
            {number("rttMs", "Round trip, ms", errors.rttMs)}
            {number("cost", "Cost", errors.cost)}
          </div>
          <Check label="The way back is another" checked={oneWay} onChange={setOneWay} />
          {oneWay && (
            <div className="grid grid-cols-3 gap-4">
              {number("backMbit", "Speed back, Mbit/s", errors.backMbit)}
              <span />
              {number("backCost", "Cost back", errors.backCost)}
            </div>
          )}
        </>
      )}
    </SaveForm>
  );
}
