// Work that takes a while, wherever it is shown: how far it is, how fast, what
// is left, and the buttons that stop it and let it go on.
import { useMutation } from "@tanstack/react-query";
import { api, type Run } from "../api/client";
import { Meter } from "./figures";
import { Status, type Tone } from "./status";
import { Button, sentence, Trouble } from "./ui";
import { bytes } from "../format";

const tones: Record<string, Tone> = { waiting: "none", running: "good", stopped: "held", done: "good", failed: "bad" };

/** What is counted, where that is not files and folders. */
const things: Partial<Record<Run["kind"], string>> = { "who-can": "users", "what-if": "files counted", pool: "files counted" };

/** What reads contents: its rate is one of bytes. */
const reads: Run["kind"][] = ["estimate", "prove"];

export const RunState = ({ run }: { run: Run }) => <Status tone={tones[run.state] ?? "none"}>{run.state}</Status>;

export const ended = (run: Run) => run.state === "done" || run.state === "stopped" || run.state === "failed";

export function RunProgress({ run }: { run: Run }) {
  const act = useMutation({
    mutationFn: (what: "stop" | "resume") => api.POST(`/api/v1/runs/{run}/${what}`, { params: { path: { run: run.id } } }),
  });
  return (
    <div className="grid gap-1">
      <div className="flex flex-wrap items-baseline gap-x-4">
        <RunState run={run} />
        <span>{run.done.toLocaleString("en")} {things[run.kind] ?? "files and folders"}{run.bytes > 0 && `, ${bytes(run.bytes)}`}</span>
        <span className="text-soft">{reads.includes(run.kind) && run.bytes > 0 ? bytes((1000 * run.bytes) / Math.max(1, run.workedMs)) : Math.round(run.rate).toLocaleString("en")}/s</span>
        {run.leftS !== undefined && !run.waits && <span className="text-soft">about {left(run.leftS)} left</span>}
        <span className="ml-auto flex gap-2">
          {!ended(run) && <Button disabled={act.isPending} onClick={() => act.mutate("stop")}>Stop</Button>}
          {(run.state === "stopped" || run.state === "failed") && <Button disabled={act.isPending} onClick={() => act.mutate("resume")}>Go on</Button>}
        </span>
      </div>
      {run.state !== "done" && <Meter label={`Progress of run ${run.id}`} share={run.fraction} />}
      {run.waits && !ended(run) && <p><Status tone="held">waits</Status> {sentence(run.waits)}</p>}
      {run.trouble && <p className={run.state === "failed" ? "text-bad" : "text-soft"}>{run.trouble}</p>}
      {act.error && <Trouble error={act.error} />}
    </div>
  );
}

const left = (s: number) => (s < 90 ? `${s} s` : s < 5400 ? `${Math.round(s / 60)} min` : `${(s / 3600).toFixed(1)} h`);
