// Where does this path lead? For one person at one site, in order, with reasons.
import { useEffect, useState } from "react";
import type { Direction, Entry } from "../api/client";
import { useDirections, useSites } from "../api/queries";
import { levelText } from "../components/level";
import { SpanStrip, type Deck } from "../components/span";
import { stateTone, Status } from "../components/status";
import { Loading, Section, Select, sentence, TextField, Trouble } from "../components/ui";
import { target } from "../format";

const anywhere = "(no site)";

export function WherePanel({ namespace, entry }: { namespace: string; entry?: Entry }) {
  const sites = useSites();
  const [path, setPath] = useState(`/${namespace}`);
  const [from, setFrom] = useState(anywhere);
  const [as, setAs] = useState("");
  const [through, setThrough] = useState<"gateway" | "front">("gateway");
  const chosen = entry?.path; // the entry itself is another object whenever the namespace is read again
  useEffect(() => {
    if (chosen !== undefined) setPath(`/${namespace}/${chosen}`);
  }, [namespace, chosen]);
  const site = from === anywhere ? "" : from;
  return (
    <Section title="Where does this path lead?">
      <div className="grid grid-cols-2 gap-x-3 gap-y-2">
        <div className="col-span-2">
          <TextField label="Path" mono value={path} onChange={(e) => setPath(e.target.value)} />
        </div>
        <div className="grid content-start gap-1">
          <span className="font-medium" aria-hidden>Standing at</span>
          <Select label="Standing at" value={from} onChange={setFrom} options={[anywhere, ...(sites.data ?? []).map((s) => s.name)].map((name) => ({ value: name, label: name }))} />
        </div>
        <div className="grid content-start gap-1">
          <span className="font-medium" aria-hidden>Through</span>
          <Select label="Through" value={through} onChange={(t) => setThrough(t === "front" ? "front" : "gateway")} options={[{ value: "gateway", label: "the gateway" }, { value: "front", label: "the front there" }]} />
        </div>
        <div className="col-span-2"><TextField label="As" value={as} onChange={(e) => setAs(e.target.value)} placeholder="any account" /></div>
      </div>
      <div className="mt-3" aria-live="polite">
        <Answer path={path} from={site} as={as.trim()} through={through} />
      </div>
    </Section>
  );
}

function Answer({ path, from, as, through }: { path: string; from: string; as: string; through: "gateway" | "front" }) {
  const query = useDirections(path, from, as, through);
  if (path === "") return <p className="text-soft">Type a path.</p>;
  if (query.isPending) return <Loading what="directions" />;
  if (!query.data) return <Trouble error={query.error} />;
  const d = query.data;
  if (d.kind === "folder") {
    return (
      <p>
        A folder of the namespace itself{d.names?.length ? <>, with <code>{d.names.join(", ")}</code></> : ", empty"}.
      </p>
    );
  }
  const first = d.directions.find((x) => x.usable);
  return (
    <>
      {first ? <p className="mb-2">People are led to <code className="font-semibold break-all">{[target(first), d.rest].filter(Boolean).join("/")}</code>.</p> : <div className="mb-2"><Status tone="bad">People are led nowhere: no location is open.</Status></div>}
      {d.opens && <p className="mb-2">People at {d.from} open <code className="font-semibold break-all">{d.opens}</code>.</p>}
      {d.may && <p className="mb-2"><span className="font-semibold">{d.may.account.name}</span> {d.may.level === "none" ? "may do nothing there" : <>has <span className="font-semibold">{levelText(d.may)}</span> there</>}<span className="block text-sm text-soft">{sentence((d.may.reasons ?? []).map((r) => r.text).join("; "))}</span></p>}
      {d.mayTrouble && <p className="mb-2 text-warn">{sentence(`what ${d.as ?? ""} may do there is not known now: ${d.mayTrouble}`)}</p>}
      <ol className="border-t border-ink">
        {d.directions.map((direction, i) => (
          <DirectionRow key={direction.id} place={i + 1} direction={direction} from={from} />
        ))}
      </ol>
    </>
  );
}

const decks: Record<string, Deck> = { open: "open", held: "lifted", failing: "failing" };

function DirectionRow({ place, direction: d, from }: { place: number; direction: Direction; from: string }) {
  return (
    <li className="border-b border-line py-1.5">
      <div className="flex items-baseline gap-2">
        <span className="w-4 shrink-0 text-right font-semibold">{d.usable ? place : "–"}</span>
        <Status tone={stateTone(d.state)}>{d.state}</Status>
        <span className="min-w-0 text-soft">{d.reason.replace(`${d.state}: `, "")}</span>
      </div>
      <div className="mt-1 pl-6">
        <SpanStrip compact from={from || "anywhere"} to={<code title={target(d)}>{target(d)}</code>} deck={decks[d.state] ?? "none"} label={`${from || "anywhere"} to ${target(d)}: ${d.state}`} />
      </div>
    </li>
  );
}
