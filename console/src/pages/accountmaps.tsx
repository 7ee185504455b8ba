// Account maps: which accounts of different servers are those of the same people.
import { useMemo, useState } from "react";
import { api, etag, type AccountMap } from "../api/client";
import { useAccountMaps, useAccountPairs, useFileServers } from "../api/queries";
import { SaveForm } from "../components/form";
import { Status } from "../components/status";
import { DataTable, type Column } from "../components/table";
import { Button, Dialog, Field, Loading, Section, Select, TextArea, TextField, Trouble } from "../components/ui";
import { plural } from "../format";

type Doing = { kind: "make" } | { kind: "change" | "remove" | "pairs"; map: AccountMap };

export function AccountMaps() {
  const query = useAccountMaps();
  const [doing, setDoing] = useState<Doing>();
  const close = () => setDoing(undefined);
  const columns = useMemo<Column<AccountMap>[]>(
    () => [
      { head: "Map", by: (m) => m.name, cell: (m) => <span className="font-medium">{m.name}</span> },
      { head: "Rules", by: (m) => m.rules.join(), cell: (m) => <span className="font-mono text-sm">{m.rules.slice(0, 3).map((r) => <span key={r} className="block max-w-96 truncate" title={r}>{r}</span>)}{m.rules.length > 3 && <span className="text-soft">and {m.rules.length - 3} more</span>}</span> },
      { head: "Used by", right: true, by: (m) => m.sets, cell: (m) => plural(m.sets, "replica set") },
      { head: "Note", wide: true, by: (m) => m.note ?? "", cell: (m) => <span className="text-soft">{m.note}</span> },
      {
        head: "Actions",
        cell: (m) => (
          <>
            <Button look="quiet" onClick={() => setDoing({ kind: "pairs", map: m })} aria-label={`Show whom ${m.name} pairs`}>Pairs</Button>
            <Button look="quiet" onClick={() => setDoing({ kind: "change", map: m })} aria-label={`Change ${m.name}`}>Change</Button>
            <Button look="quiet" onClick={() => setDoing({ kind: "remove", map: m })} aria-label={`Remove ${m.name}`}>Remove …</Button>
          </>
        ),
      },
    ],
    [],
  );
  const map = doing && doing.kind !== "make" ? doing.map : undefined;
  return (
    <Section title="Account maps" aside={<Button onClick={() => setDoing({ kind: "make" })}>Make a map</Button>}>
      <DataTable what="account maps" query={query} columns={columns} keyOf={(m) => m.name} empty="There are none yet. Where servers have accounts of their own, a map says which of them are those of the same people." />
      <Dialog open={doing?.kind === "make" || doing?.kind === "change"} onOpenChange={close} title={map ? `Change ${map.name}` : "Make an account map"} lead="Permissions that are carried through it name at each server the accounts of that server.">
        {(doing?.kind === "make" || doing?.kind === "change") && <MapForm map={map} onClose={close} />}
      </Dialog>
      <Dialog open={doing?.kind === "pairs"} onOpenChange={close} title={`Whom ${map?.name ?? ""} pairs`} wide>
        {doing?.kind === "pairs" && <Pairs map={doing.map} />}
      </Dialog>
      <Dialog open={doing?.kind === "remove"} onOpenChange={close} title={`Remove ${map?.name ?? ""}?`}>
        {map && <SaveForm action="Remove" danger done={`${map.name} was removed.`} onDone={close} onCancel={close} save={() => api.DELETE("/api/v1/account-maps/{map}", { params: { path: { map: map.name }, header: { "If-Match": etag(map.version) } } })} />}
      </Dialog>
    </Section>
  );
}

function MapForm({ map, onClose }: { map?: AccountMap; onClose: () => void }) {
  const [name, setName] = useState(map?.name ?? "");
  const [note, setNote] = useState(map?.note ?? "");
  const [text, setText] = useState((map?.rules ?? []).join("\n"));
  const rules = text.split("\n").map((r) => r.trim()).filter(Boolean);
  const save = () =>
    map
      ? api.PATCH("/api/v1/account-maps/{map}", { params: { path: { map: map.name }, header: { "If-Match": etag(map.version) } }, body: { name, note, rules } })
      : api.POST("/api/v1/account-maps", { body: { name, note: note || undefined, rules } });
  return (
    <SaveForm action="Save" done={`${name} was saved.`} fields={["name", "note", "rules"]} onDone={onClose} onCancel={onClose} save={save}>
      {(errors) => (
        <>
          <TextField label="Name" value={name} onChange={(e) => setName(e.target.value)} error={errors.name} />
          <TextArea label="Rules, one a line" help="fern\curators = heather\keepers pairs two accounts; fern\* = heather\* all that are called the same. Each is read both ways." error={errors.rules} rows={6} className="text-sm" value={text} onChange={(e) => setText(e.target.value)} />
          <TextField label="Note" value={note} onChange={(e) => setNote(e.target.value)} error={errors.note} />
          {map && map.sets > 0 && <p className="text-soft">Used by {plural(map.sets, "replica set")}. Accounts stay paired there as they are, until they are paired anew on the page of the set.</p>}
        </>
      )}
    </SaveForm>
  );
}

function Pairs({ map }: { map: AccountMap }) {
  const servers = useFileServers();
  const [chosen, choose] = useState<{ one?: string; other?: string }>({});
  // The first rule says which servers are meant, most likely: by their names, or by their domain.
  const meant = (side: string | undefined) => {
    const place = side?.split("\\")[0]?.trim().toLowerCase() ?? "";
    return servers.data?.find((s) => s.name.toLowerCase() === place || s.domain?.toLowerCase() === place)?.name ?? "";
  };
  const sides = map.rules[0]?.split("=") ?? [];
  const one = chosen.one ?? meant(sides[0]);
  const other = chosen.other ?? meant(sides[1]);
  const query = useAccountPairs(map.name, one, other);
  const options = (servers.data ?? []).map((s) => ({ value: s.name, label: s.name }));
  const p = query.data;
  return (
    <div className="grid gap-4">
      <div className="grid max-w-xl grid-cols-2 gap-4">
        <Field label="Accounts of">{(props) => <Select {...props} value={one} onChange={(v) => choose((c) => ({ ...c, one: v }))} options={options} placeholder="Choose a server" />}</Field>
        <Field label="and of">{(props) => <Select {...props} value={other} onChange={(v) => choose((c) => ({ ...c, other: v }))} options={options} placeholder="Choose a server" />}</Field>
      </div>
      {query.isLoading && <Loading what="the accounts of both" />}
      {query.error && <Trouble error={query.error} />}
      {p && (
        <>
          {[...p.wider.map((w) => `${w}: they gain what the pair may.`), ...p.lacking.map((l) => `${l.endsWith("\\") ? `no server or domain is called ${l.slice(0, -1)}` : `${l} is not there`}: its rule does nothing.`), ...p.clashing.map((r) => `${r}: an earlier rule says otherwise.`)].map((text) => <p key={text}><Status tone="warn"><span className="whitespace-normal">{text}</span></Status></p>)}
          {p.pairs.length === 0 ? <p className="text-soft">It says nothing of accounts of these two.</p> : (
            <div className="max-h-96 overflow-auto" tabIndex={0} role="group" aria-label="Pairs">
              <table className="w-full border-collapse">
                <thead><tr className="border-y border-ink">{[p.one, p.other].map((h) => <th key={h} scope="col" className="py-1 pr-4 text-left font-medium">{h}</th>)}</tr></thead>
                <tbody>{p.pairs.map((pair) => <tr key={pair.one.sid} className="border-b border-line"><td className="py-1 pr-4">{pair.one.name}</td><td className="py-1">{pair.other.name}</td></tr>)}</tbody>
              </table>
            </div>
          )}
          {p.without.length > 0 && <p className="text-soft">Without a pair: {p.without.map((a) => a.name).join(", ")}.</p>}
        </>
      )}
    </div>
  );
}
