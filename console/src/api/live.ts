// Keeps what is shown true: the service tells of every change by server-sent
// events, and what a change concerns is read again. Nothing is polled.
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

/** What is read again for an event of a topic. */
const concerns: Record<string, string[]> = {
  site: ["site", "server", "namespace", "change"],
  server: ["server", "share", "site", "namespace", "change"],
  share: ["share"],
  namespace: ["namespace", "share", "change"],
  user: ["user", "change"],
};

export type Liveness = "live" | "waiting";

export function useLive(): Liveness {
  const queries = useQueryClient();
  const [state, setState] = useState<Liveness>("waiting");
  useEffect(() => {
    const source = new EventSource("/api/v1/events");
    let broken = false;
    source.onopen = () => {
      setState("live");
      // What happened while the stream was away may not be told again.
      if (broken) void queries.invalidateQueries();
      broken = false;
    };
    source.onerror = () => {
      setState("waiting");
      broken = true;
    };
    source.onmessage = (message) => {
      const { topic } = JSON.parse(message.data as string) as { topic: string };
      const keys = concerns[topic];
      if (!keys) void queries.invalidateQueries();
      for (const key of keys ?? []) void queries.invalidateQueries({ queryKey: [key] });
    };
    return () => source.close();
  }, [queries]);
  return state;
}
