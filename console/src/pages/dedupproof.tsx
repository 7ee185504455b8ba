// Whether the number holds: a folder is packed into a chunk store and taken out again.
import { useMemo, useState, type ReactNode } from "react";
import { api, etag, got, type EstimatedVolume, type Schemas } from "../api/client";
import { useProofs, useStore, useStoreChunks } from "../api/queries";
import { SaveForm } from "../components/form";
import { ended, RunProgress } from "../components/run";
import { Status } from "../components/status";
import { DataTable, type Column } from "../components/table";
import { Button, Check, Dialog, Empty, Facts, Section, TextField } from "../components/ui";
import { bytes, plural, target, when } from "../format";

export function ProofSection({ v }: { v: EstimatedVolume }) {
  const [asking, setAsking] = useState(false);
  const proofs = useProofs(v.name);
  const latest = proofs.data?.[0];
  const ask = <Button onClick={() => setAsking(true)} disabled={latest && !ended(latest.run)}>Prove it on a folder</Button>;
  return (
    <Section title="Proof" aside={ask}>
      {latest && latest.run.state !== "done" && <RunProgress run={latest.run} />}
      {!latest && <Empty>It was not proved yet. A proof packs a folder into a chunk store, takes it out again, compares every byte, and shows what the store took beside what was foretold.</Empty>}
      {latest?.cameTo && <Came p={latest} />}
      <Dialog open={asking} onOpenChange={setAsking} title={`Prove the estimate of ${v.name}`} lead="The folder is read twice, and never written to. The store is made in the work folder of the service.">
        {asking && <Ask v={v} onClose={() => setAsking(false)} />}
      </Dialog>
    </Section>
  );
}

function Came({ p }: { p: Schemas["Proof"] }) {
  const c = p.cameTo!;
  const good = p.different.length === 0;
  const widest = Math.max(c.predictedBytes, c.realBytes, 1);
  const bar = (name: string, n: number, look: string) => (
    <div className="grid grid-cols-[6rem_minmax(0,1fr)_6rem] items-center gap-3">
      <span className="text-soft">{name}</span>
      <span className="h-3 border border-edge" aria-hidden><span className={`block h-full ${look}`} style={{ width: `${(100 * n) / widest}%` }} /></span>
      <span className="text-right">{bytes(n)}</span>
    </div>
  );
  return (
    <div className="grid gap-3">
      <p><Status tone={good ? "good" : "bad"}>{p.verdict}</Status></p>
      <div className="grid max-w-2xl gap-1">
        {bar("foretold", c.predictedBytes, "bg-span/50")}
        {bar("took", c.realBytes, "bg-span")}
      </div>
      <Facts
        facts={[
          ["Folder", <code key="f" className="break-all">{c.folder}</code>],
          ["Proved", when(c.at)],
          ...(p.store ? [["In the store", `${plural(p.store.chunks, "chunk")} of ${bytes(p.store.chunkBytes)}, ${bytes(p.store.packedBytes)} compressed, had ${p.store.references.toLocaleString("en")} times by ${plural(p.store.files, "file")}`] as [string, string]] : []),
          ...(p.kept ? [["Kept at", <Store key="k" run={p.run.id} path={p.kept} />] as [string, ReactNode]] : []),
        ]}
      />
      {p.different.map((d) => <code key={d} className="text-bad break-all">{d}</code>)}
    </div>
  );
}

/** A store that is kept: its chunks, and the way to be rid of it. */
function Store({ run, path }: { run: number; path: string }) {
  const [open, setOpen] = useState<"chunks" | "removing">();
  const store = useStore(run);
  return (
    <>
      <code className="break-all">{path}</code>{store.data && `, ${bytes(store.data.bytes)}`}{" "}
      <Button look="quiet" onClick={() => setOpen("chunks")}>Its chunks …</Button>
      <Button look="quiet" onClick={() => setOpen("removing")}>Remove it …</Button>
      <Dialog open={open === "chunks"} onOpenChange={() => setOpen(undefined)} title="Chunks that occur most" lead="Each is kept once, and had by files as often as is told.">
        {open === "chunks" && <Chunks run={run} />}
      </Dialog>
      <Dialog open={open === "removing"} onOpenChange={() => setOpen(undefined)} title="Remove the store" lead="What the proof found stays; the store can then not be inspected any more.">
        {open === "removing" && store.data && (
          <SaveForm danger action="Remove it" done="The store is removed." onCancel={() => setOpen(undefined)} onDone={() => setOpen(undefined)}
            save={() => got(api.DELETE("/api/v1/dedup/stores/{run}", { params: { path: { run }, header: { "If-Match": etag(store.data.version) } } }))} />
        )}
      </Dialog>
    </>
  );
}

function Chunks({ run }: { run: number }) {
  const query = useStoreChunks(run);
  const columns = useMemo<Column<Schemas["StoredChunk"]>[]>(
    () => [
      { head: "Chunk", right: true, by: (c) => c.number, cell: (c) => c.number },
      { head: "Length", right: true, by: (c) => c.length, cell: (c) => bytes(c.length) },
      { head: "Compressed", right: true, by: (c) => c.packed, cell: (c) => bytes(c.packed) },
      { head: "Had", right: true, by: (c) => c.references, cell: (c) => `${c.references.toLocaleString("en")} times` },
      { head: "Among others by", wide: true, by: (c) => c.paths.join(), cell: (c) => c.paths.map((p) => <code key={p} className="block text-sm break-all">{p}</code>) },
    ],
    [],
  );
  return <DataTable what="chunks" query={query} columns={columns} keyOf={(c) => String(c.number)} empty="The store is empty." />;
}

function Ask({ v, onClose }: { v: EstimatedVolume; onClose: () => void }) {
  const first = v.places[0];
  const [folder, setFolder] = useState(first ? target(first) : "");
  const [keep, setKeep] = useState(false);
  const [anyway, setAnyway] = useState(false);
  return (
    <SaveForm action="Prove it" busy="Asking the server …" fields={["folder"]} onCancel={onClose} onDone={onClose}
      save={() => got(api.POST("/api/v1/dedup/volumes/{volume}/proofs", { params: { path: { volume: v.name } }, body: { folder, keep, anyway } }))}>
      {(errors) => (
        <>
          <TextField label="Folder" mono value={folder} onChange={(e) => setFolder(e.target.value)} error={errors.folder} help={`SERVER/SHARE/FOLDER, within ${v.places.map(target).join(", ")}.`} />
          <Check label="Keep the store, to be inspected" checked={keep} onChange={setKeep} />
          <Check label="Also when the work folder lies on the volume itself" checked={anyway} onChange={setAnyway} />
        </>
      )}
    </SaveForm>
  );
}
