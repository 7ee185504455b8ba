// The making of a replica set, step by step: what was done, what came of it,
// what is still awaited, and what was taken back.
import type { ReplicaCreation } from "../api/client";
import { ended } from "./run";
import { Status, type Tone } from "./status";
import { sentence } from "./ui";

const tones: Record<ReplicaCreation["steps"][number]["state"], Tone> = { planned: "none", "under-way": "none", done: "good", awaited: "held", failed: "bad", undone: "warn" };

export function CreationSteps({ creation }: { creation: ReplicaCreation }) {
  return (
    <ol className="max-w-4xl border-t border-line">
      {creation.steps.map((s) => (
        <li key={s.text} className="grid grid-cols-[7rem_minmax(0,1fr)] gap-x-3 border-b border-line py-1.5">
          <Status tone={tones[s.state]}>{s.state === "planned" && ended(creation.run) ? "not done" : s.state === "under-way" ? "under way" : s.state}</Status>
          <span className="min-w-0 break-words">
            <span className={s.state === "planned" ? "text-soft" : ""}>{s.text}</span>
            {s.found && s.state !== "undone" && <span className={`block ${s.state === "failed" ? "text-bad" : "text-soft"}`}>{sentence(s.found)}</span>}
          </span>
        </li>
      ))}
    </ol>
  );
}
