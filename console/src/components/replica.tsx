// How replica sets and lanes are, wherever they are shown.
import type { Lane, ReplicaSet } from "../api/client";
import { SpanStrip, type Deck } from "./span";
import { Status, type Tone } from "./status";

export const setPage = (name: string) => `/replicas/${encodeURIComponent(name)}`;

const setTones: Record<ReplicaSet["state"], Tone> = { steady: "good", behind: "none", filling: "none", failing: "bad", paused: "held" };

export const SetState = ({ set }: { set: ReplicaSet }) => <Status tone={setTones[set.state]}>{set.state}</Status>;

export const replicaTones: Record<ReplicaSet["replicas"][number]["state"], Tone> = { new: "none", looking: "none", waiting: "none", steady: "good", failing: "bad", paused: "held" };

const decks: Record<Lane["state"], Deck> = { new: "none", idle: "open", carrying: "open", closed: "lifted", "not-yet": "none", failing: "failing", paused: "lifted" };

/** One lane as a span: thickness is what it may carry, a lifted deck is closed. */
export function LaneStrip({ lane, compact }: { lane: Lane; compact?: boolean }) {
  return <SpanStrip compact={compact} from={lane.from} to={lane.to} deck={decks[lane.state]} mbit={lane.mbit} figure={lane.words} label={`${lane.from} to ${lane.to}: ${lane.words}`} />;
}
