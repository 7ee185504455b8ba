// Keeps what is shown true: the service tells of every change by server-sent
// events, and what a change concerns is read again. Nothing is polled.
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import type { Told } from "./live.worker";

/** What is read again for an event of a topic; another topic concerns everything. */
const concerns: Record<string, string[]> = {
  site: ["site", "server", "namespace"],
  server: ["server", "share", "site", "namespace"],
  share: ["share", "rights"],
  run: ["run"],
  rights: ["rights"],
  volume: ["volume", "run"],
  directory: ["account", "rights"],
  replica: ["replica"],
  "cloud-setup": ["cloud-setup"],
  migration: ["run"],
  look: [],
  change: [],
  "account-map": ["account-map", "replica"],
  health: ["namespace"],
  namespace: ["namespace", "share"],
  user: ["user"],
  lock: ["lock"],
  front: ["front", "namespace"],
  "front-state": ["front"],
};

const everything = "*";

/** For how long changes are gathered, in ms. */
const crowd = 120;

/** Whether a query shows the progress of a run: its own page, or a list of runs. */
const ofRun = (key: readonly unknown[], run: number) => key[0] === "run" && !key.some((part) => typeof part === "number" && part !== run);

export type Liveness = "live" | "waiting";

export function useLive(): Liveness {
  const queries = useQueryClient();
  const [state, setState] = useState<Liveness>("waiting");
  useEffect(() => {
    const worker = new SharedWorker(new URL("./live.worker.ts", import.meta.url), { type: "module", name: "bspan-live" });
    // Changes often come in crowds: what they concern is read again once.
    const stale = new Set<string>();
    const progressed = new Set<number>(); // numbers of runs
    let gathering: ReturnType<typeof setTimeout> | undefined;
    const readAgain = () => {
      gathering = undefined;
      if (stale.has(everything)) void queries.invalidateQueries();
      else {
        for (const key of stale) void queries.invalidateQueries({ queryKey: [key] });
        if (!stale.has("run")) for (const run of progressed) void queries.invalidateQueries({ predicate: (q) => ofRun(q.queryKey, run) });
      }
      stale.clear();
      progressed.clear();
    };
    worker.port.onmessage = ({ data }: MessageEvent<Told>) => {
      if ("state" in data) return setState(data.state);
      if (data.topic === "progress") progressed.add(Number(data.subject));
      else for (const key of concerns[data.topic] ?? [everything]) stale.add(key);
      if (data.recorded) stale.add("change");
      gathering ??= setTimeout(readAgain, crowd);
    };
    const leave = () => worker.port.postMessage("goodbye");
    addEventListener("pagehide", leave);
    return () => {
      clearTimeout(gathering);
      removeEventListener("pagehide", leave);
      leave();
      worker.port.close();
    };
  }, [queries]);
  return state;
}
