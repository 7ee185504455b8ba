// One event stream for all tabs of the console: a browser keeps only a few
// connections to one host, and a stream in every tab would soon use them up.
/// <reference lib="webworker" />

export type Told = { state: "live" | "waiting" } | { topic: string; subject?: string; recorded?: boolean };

const ports = new Set<MessagePort>();
let source: EventSource | undefined;
let state: "live" | "waiting" = "waiting";
let broken = false;

const tell = (told: Told) => ports.forEach((port) => port.postMessage(told));

function become(next: typeof state) {
  state = next;
  tell({ state });
}

function follow() {
  const stream = new EventSource("/api/v1/events");
  source = stream;
  stream.onopen = () => {
    become("live");
    // What happened while the stream was away may not be told again.
    if (broken) tell({ topic: "reset" });
    broken = false;
  };
  stream.onerror = () => {
    broken = true;
    become("waiting");
    // A refusal ends the stream for good; a lost connection mends itself.
    if (stream.readyState === EventSource.CLOSED) {
      source = undefined;
      setTimeout(() => source ?? follow(), 2000);
    }
  };
  stream.onmessage = (message) => tell(JSON.parse(message.data as string) as Told);
}

(self as unknown as SharedWorkerGlobalScope).onconnect = (event) => {
  const port = event.ports[0]!;
  ports.add(port);
  port.onmessage = () => ports.delete(port); // the tab says goodbye
  port.postMessage({ state } satisfies Told);
  if (!source) follow();
};
