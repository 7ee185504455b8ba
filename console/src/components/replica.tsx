// How replica sets and lanes are, wherever they are shown.
import type { Lane, ReplicaSet, ReplicaVerification } from "../api/client";
import { SpanStrip, type Deck } from "./span";
import { Status, type Tone } from "./status";

export const setPage = (name: string) => `/replicas/${encodeURIComponent(name)}`;

const setTones: Record<ReplicaSet["state"], Tone> = { steady: "good", behind: "none", filling: "none", failing: "bad", stalled: "bad", pausing: "held", paused: "held" };

export const SetState = ({ set }: { set: ReplicaSet }) => <Status tone={setTones[set.state]}>{set.state}</Status>;

export const replicaTones: Record<ReplicaSet["replicas"][number]["state"], Tone> = { new: "none", looking: "none", waiting: "none", steady: "good", failing: "bad", paused: "held" };

const decks: Record<Lane["state"], Deck> = { new: "none", idle: "open", carrying: "open", closed: "lifted", "not-yet": "none", failing: "failing", stalled: "failing", paused: "lifted" };

/** One lane as a span: thickness is what it may carry, a lifted deck is closed. */
export function LaneStrip({ lane, compact }: { lane: Lane; compact?: boolean }) {
  return <SpanStrip compact={compact} from={lane.from} to={lane.to} deck={decks[lane.state]} mbit={lane.mbit} figure={lane.words} label={`${lane.from} to ${lane.to}: ${lane.words}`} />;
}

/** What came of a verification, in a shape, a word and a colour. */
export function VerifyVerdict({ v }: { v: ReplicaVerification }) {
  if (v.run.state !== "done") return <Status tone={v.run.state === "failed" ? "bad" : "none"}>{v.run.trouble ? `${v.run.state}: ${v.run.trouble}` : v.run.state}</Status>;
  return <Status tone={toneOf(v)}>{v.verdict}</Status>;
}

type Counts = ReplicaVerification["replicas"][number]["counts"];

/** How many differences count: those that are not explained. */
const unexplained = (c: Counts) => c.missing + c.extra + c.kinds + c.sizes + c.times + c.permissions + c.owners + c.attributes + c.contents;

function toneOf(v: ReplicaVerification): Tone {
  if (v.replicas.some((r) => unexplained(r.counts) > 0)) return "bad";
  return v.replicas.some((r) => r.counts.inUse > 0) ? "warn" : "good";
}

/** The counts of a verification in words, but those of nothing. */
export function kinds(c: Counts): string[] {
  const all: [number, string][] = [[c.missing, "missing"], [c.extra, "extra"], [c.kinds, "of another kind"], [c.sizes, "of other length"], [c.contents, "of other content"], [c.times, "of other time"], [c.permissions, "with other permissions"], [c.owners, "of another owner"], [c.attributes, "with other attributes"], [c.inUse, "in use"], [c.unreadable, "unreadable"], [c.overdue, "overdue"], [c.explained, "explained"]];
  return all.filter(([n]) => n > 0).map(([n, what]) => `${n.toLocaleString("en")} ${what}`);
}
