// What is done in steps: what was done, what came of it, what is still awaited, and what was
// taken back.
import type { Schemas } from "../api/client";
import { Status, type Tone } from "./status";
import { sentence } from "./ui";

type Step = Schemas["Step"];

const tones: Record<Step["state"], Tone> = { planned: "none", "under-way": "none", done: "good", awaited: "held", failed: "bad", undone: "warn" };

/** over says that nothing more will be done of it. */
export function StepList({ steps, over = false }: { steps: Step[]; over?: boolean }) {
  return (
    <ol className="max-w-4xl border-t border-line">
      {steps.map((s) => (
        <li key={s.text} className="grid grid-cols-[7rem_minmax(0,1fr)] gap-x-3 border-b border-line py-1.5">
          <Status tone={tones[s.state]}>{s.state === "planned" && over ? "not done" : s.state === "under-way" ? "under way" : s.state}</Status>
          <span className="min-w-0 break-words">
            <span className={s.state === "planned" ? "text-soft" : ""}>{s.text}</span>
            {s.found && s.state !== "undone" && <span className={`block ${s.state === "failed" ? "text-bad" : "text-soft"}`}>{sentence(s.found)}</span>}
          </span>
        </li>
      ))}
    </ol>
  );
}
