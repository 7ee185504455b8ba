// When a file, or a change that is made somewhere, will be in the bucket and at each edge of a cloud set.
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type ReplicaSet, type Schemas } from "../api/client";
import { Status } from "../components/status";
import { Button, Section, Select, TextField, Trouble } from "../components/ui";
import { fromGiB, plural, took, when } from "../format";

type Forecast = Schemas["ArrivalForecast"];
type Place = Schemas["PlaceArrival"];
type Span = Schemas["ArrivalSpan"];
type Question = { path?: string; madeAt?: string; size?: number };

const aPath = "a path";

/** Asks, and draws the answer as a time line. */
export function WhenWhere({ set }: { set: ReplicaSet }) {
  const [about, setAbout] = useState(aPath);
  const [path, setPath] = useState("");
  const [size, setSize] = useState("");
  // Asking takes requests that the provider charges for: never without a click.
  const forecast = useMutation({ mutationFn: (asked: Question) => got(api.GET("/api/v1/replica-sets/{set}/arrival", { params: { path: { set: set.name }, query: asked } })) });
  const ask = () => forecast.mutate(about === aPath ? { path: path.trim() } : { madeAt: about, size: Math.max(0, fromGiB(size)) });
  return (
    <Section title="Arrival forecast">
      <form className="mb-3 flex flex-wrap items-end gap-3" onSubmit={(e) => { e.preventDefault(); ask(); }}>
        <div className="w-64"><Select label="What is asked for" value={about} onChange={setAbout} options={[{ value: aPath, label: "A file or folder of the set" }, ...set.replicas.map((r) => ({ value: r.name, label: `A change made now at ${r.name}` }))]} /></div>
        {about === aPath ? (
          <div className="min-w-80 flex-1"><TextField label="File or folder" mono value={path} onChange={(e) => setPath(e.target.value)} /></div>
        ) : (
          <div className="w-40"><TextField label="Size in GiB" inputMode="decimal" value={size} placeholder="0" onChange={(e) => setSize(e.target.value)} /></div>
        )}
        <Button type="submit" disabled={about === aPath && !path.trim()}>Forecast</Button>
      </form>
      {forecast.error && <Trouble error={forecast.error} />}
      {forecast.isPending && <p role="status" className="text-soft">Forecasting …</p>}
      {forecast.data && <TimeLine forecast={forecast.data} />}
    </Section>
  );
}

const marks: [number, string][] = [[1, "1 s"], [10, "10 s"], [60, "1 min"], [600, "10 min"], [3600, "1 h"], [21_600, "6 h"], [86_400, "1 d"], [604_800, "1 w"]];

/** The places as rows over one axis of time, which is logarithmic: seconds and days are on one sheet. */
function TimeLine({ forecast: f }: { forecast: Forecast }) {
  const start = Date.parse(f.at);
  const after = (iso: string) => Math.max(0, (Date.parse(iso) - start) / 1000);
  const ends = f.places.flatMap((p) => [p.name, p.content].filter((s) => s !== undefined).map((s) => after(s.latest)));
  const most = Math.max(10, ...ends, ...f.places.map((p) => (p.measuredMs ?? 0) / 1000)) * 1.15;
  const at = (seconds: number) => `${(100 * Math.log1p(seconds)) / Math.log1p(most)}%`;
  const ticks = marks.filter(([s]) => s <= most);
  const measured = f.places.some((p) => p.measuredMs !== undefined && !p.present);
  return (
    <>
      <table className="w-full table-fixed border-collapse">
        <caption className="sr-only">Arrival by place</caption>
        <thead>
          <tr className="text-left text-sm text-soft">
            <th scope="col" className="w-36 py-1 font-normal">Place</th>
            <th scope="col" className="py-1 font-normal">
              <span className="sr-only">From the earliest to the latest</span>
              <span aria-hidden className="relative block h-5">
                {ticks.map(([s, label]) => <span key={s} className="absolute -translate-x-1/2 whitespace-nowrap" style={{ left: at(s) }}>{label}</span>)}
              </span>
            </th>
            <th scope="col" className="w-96 py-1 pl-4 font-normal">Expected, and reasons</th>
          </tr>
        </thead>
        <tbody>
          {f.places.map((p) => (
            <tr key={p.replica} className="border-t border-line align-top">
              <th scope="row" className="truncate py-2 pr-2 text-left font-medium" title={p.replica}>{p.replica}{p.bucket && <span className="font-normal text-soft"> bucket</span>}</th>
              <td className="py-2">
                <div className="relative h-9" role="img" aria-label={inWords(p)}>
                  {ticks.map(([s]) => <span key={s} className="absolute inset-y-0 border-l border-line" style={{ left: at(s) }} />)}
                  {p.name && <Bar span={p.name} at={at} after={after} top="top-1" faint={p.content?.expected !== p.name.expected} />}
                  {p.content && p.content.expected !== p.name?.expected && <Bar span={p.content} at={at} after={after} top="top-5" />}
                  {p.measuredMs !== undefined && !p.present && <span title={`Probes took ${took(p.measuredMs)}`} className="absolute top-1/2 size-2.5 -translate-1/2 rotate-45 border-2 border-ink bg-sheet" style={{ left: at(p.measuredMs / 1000) }} />}
                </div>
              </td>
              <td className="py-2 pl-4">
                <Expected place={p} />
                {p.measuredMs !== undefined && !p.present && <span className="block text-sm text-soft">Median of {plural(p.probes ?? 0, "probe")}: {took(p.measuredMs)}{p.foretoldMs !== undefined && `, forecast ${took(p.foretoldMs)}`}</span>}
                {p.reasons.length > 0 && <span className="block text-sm text-soft">{p.reasons.join("; ")}</span>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-2 text-sm text-soft">Start: {when(f.at)}. Bar: earliest to latest arrival without failures. Line: expected.{measured && " Diamond: median of probes."} Pale bar: name only.</p>
    </>
  );
}

function Bar({ span, at, after, top, faint }: { span: Span; at: (seconds: number) => string; after: (iso: string) => number; top: string; faint?: boolean }) {
  const left = at(after(span.earliest));
  return (
    <>
      <span className={`absolute ${top} h-3 ${faint ? "bg-span/30" : "bg-span"}`} style={{ left, width: `max(3px, calc(${at(after(span.latest))} - ${left}))` }} />
      <span className={`absolute ${top} h-3 w-0.5 bg-ink`} style={{ left: at(after(span.expected)) }} />
    </>
  );
}

function Expected({ place: p }: { place: Place }) {
  if (p.present) return <Status tone="good">present</Status>;
  if (!p.name) return <Status tone="bad">never</Status>;
  if (p.onFirstUse) return <>Name {when(p.name.expected)}, content on first use</>;
  if (p.content && p.content.expected !== p.name.expected) return <>Name {when(p.name.expected)}, content {when(p.content.expected)}</>;
  return <>{when(p.name.expected)}</>;
}

function inWords(p: Place) {
  if (p.present) return "present";
  if (!p.name) return "never";
  const between = (s: Span) => `between ${when(s.earliest)} and ${when(s.latest)}`;
  return `name ${between(p.name)}${p.content ? `, content ${between(p.content)}` : ""}`;
}
