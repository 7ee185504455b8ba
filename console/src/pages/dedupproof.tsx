// Whether the number holds: a folder is packed into a chunk store and taken out again.
import { useState } from "react";
import { api, got, type EstimatedVolume, type Schemas } from "../api/client";
import { useProofs } from "../api/queries";
import { SaveForm } from "../components/form";
import { ended, RunProgress } from "../components/run";
import { Status } from "../components/status";
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
          ...(p.kept ? [["Kept at", p.kept] as [string, string]] : []),
        ]}
      />
      {p.different.map((d) => <code key={d} className="text-bad break-all">{d}</code>)}
    </div>
  );
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
