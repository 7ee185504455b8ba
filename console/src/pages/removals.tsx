// Pending removals of a replica: the files that are missing there, and the choice to restore them or to remove them everywhere.
import { useState } from "react";
import { api, etag, type Replica, type ReplicaSet } from "../api/client";
import { SaveForm } from "../components/form";
import { WhatFollows } from "../components/preview";
import { Status } from "../components/status";
import { Button, Dialog, Section } from "../components/ui";
import { bytes, plural, when } from "../format";

type Decision = NonNullable<Replica["decision"]>;
const done: Record<Decision, string> = { apply: "The next scan removes the files at the other replicas.", restore: "The next scan restores the files." };

/** The replicas of a set with pending removals. */
export function Removals({ set }: { set: ReplicaSet }) {
  const [doing, setDoing] = useState<{ replica: Replica; decision: Decision }>();
  const close = () => setDoing(undefined);
  return (
    <>
      {set.replicas.filter((r) => r.removals).map((r) => <Waiting key={r.name} replica={r} onDecide={(decision) => setDoing({ replica: r, decision })} />)}
      <Dialog open={doing !== undefined} onOpenChange={close} title={doing?.decision === "apply" ? "Remove the files everywhere?" : "Restore the files?"}>
        {doing && <Form set={set} {...doing} onClose={close} />}
      </Dialog>
    </>
  );
}

function Waiting({ replica: r, onDecide }: { replica: Replica; onDecide: (d: Decision) => void }) {
  const w = r.removals;
  if (!w) return null;
  const more = w.files - w.examples.length;
  return (
    <Section title={`Pending removals at ${r.name}`}>
      <p>
        <Status tone="bad">{plural(w.files, "file")}, {bytes(w.bytes)}, missing since {when(w.since)}</Status>
        <span className="text-soft"> {Math.round((100 * w.items) / Math.max(w.of, 1))}% of all files and folders there. The other replicas keep them until you decide.</span>
      </p>
      <details className="mt-2">
        <summary className="cursor-pointer text-span">Missing files</summary>
        <ul className="mt-1 pl-4 font-mono text-sm">{w.examples.map((name) => <li key={name} className="break-all">{name}</li>)}</ul>
        {more > 0 && <p className="pl-4 text-sm text-soft">and {more.toLocaleString("en")} more</p>}
      </details>
      {r.decision ? (
        <p role="status" className="mt-3 text-soft">{r.decision === "restore" ? "The next scan restores them." : "The next scan removes them everywhere."}</p>
      ) : (
        <p className="mt-3 flex gap-3">
          <Button onClick={() => onDecide("restore")}>Restore files …</Button>
          <Button onClick={() => onDecide("apply")}>Remove everywhere …</Button>
        </p>
      )}
    </Section>
  );
}

function Form({ set, replica: r, decision, onClose }: { set: ReplicaSet; replica: Replica; decision: Decision; onClose: () => void }) {
  const change = { removals: decision };
  return (
    <SaveForm action={decision === "apply" ? "Remove everywhere" : "Restore files"} danger={decision === "apply"} done={done[decision]} fields={["removals"]} onDone={onClose} onCancel={onClose} save={() => api.PATCH("/api/v1/replica-sets/{set}/replicas/{replica}", { params: { path: { set: set.name, replica: r.name }, header: { "If-Match": etag(set.version) } }, body: change })}>
      {() => <WhatFollows set={set.name} change={{ replica: { name: r.name, change } }} asItIs={{}} />}
    </SaveForm>
  );
}
