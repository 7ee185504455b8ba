// Keeps what is shown true: the service tells of every change by server-sent
// events, and what a change concerns is read again. Nothing is polled.
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import type { Told } from "./live.worker";

/** What is read again for an event of a topic; another topic concerns everything. */
const concerns: Record<string, string[]> = {
  site: ["site", "server", "namespace", "change"],
  server: ["server", "share", "site", "namespace", "change"],
  share: ["share", "rights", "change"],
  run: ["run", "rights", "change"],
  volume: ["volume", "run", "change"],
  directory: ["account", "rights", "change"],
  replica: ["replica", "change"],
  "account-map": ["account-map", "replica", "change"],
  health: ["namespace"],
  namespace: ["namespace", "share", "change"],
  user: ["user", "change"],
  lock: ["lock", "change"],
};

const everything = "*";

/** For how long changes are gathered, in ms. */
const crowd = 120;

export type Liveness = "live" | "waiting";

export function useLive(): Liveness {
  const queries = useQueryClient();
  const [state, setState] = useState<Liveness>("waiting");
  useEffect(() => {
    const worker = new SharedWorker(new URL("./live.worker.ts", import.meta.url), { type: "module", name: "bspan-live" });
    // Changes often come in crowds: what they concern is read again once.
    const stale = new Set<string>();
    let gathering: ReturnType<typeof setTimeout> | undefined;
    const readAgain = () => {
      gathering = undefined;
      if (stale.has(everything)) void queries.invalidateQueries();
      else for (const key of stale) void queries.invalidateQueries({ queryKey: [key] });
      stale.clear();
    };
    worker.port.onmessage = ({ data }: MessageEvent<Told>) => {
      if ("state" in data) return setState(data.state);
      for (const key of concerns[data.topic] ?? [everything]) stale.add(key);
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
