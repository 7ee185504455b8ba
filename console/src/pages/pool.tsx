// What volumes would save together, and which shares should live together.
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, got, type EstimatedVolume, type Schemas } from "../api/client";
import { usePool } from "../api/queries";
import { ended, RunProgress } from "../components/run";
import { Sure } from "../components/sure";
import { Button, Check, Section, Trouble } from "../components/ui";
import { bytes } from "../format";

type Kept = Schemas["Kept"];

export function PoolSection({ volumes }: { volumes: EstimatedVolume[] }) {
  const known = volumes.filter((v) => v.latest);
  const [query, setQuery] = useSearchParams();
  const answer = usePool(Number(query.get("pool")) || undefined);
  const pool = answer.data;
  const [picked, setPicked] = useState<string[]>();
  const chosen = picked ?? pool?.asked.volumes ?? [];
  const ask = useMutation({
    mutationFn: () => got(api.POST("/api/v1/dedup/pools", { body: { volumes: chosen } })),
    onSuccess: (p) => setQuery((q) => (q.set("pool", String(p.run.id)), q), { preventScrollReset: true }),
  });
  if (known.length === 0) return null;
  const choose = (name: string, on: boolean) => {
    ask.reset();
    setPicked(on ? [...chosen, name] : chosen.filter((c) => c !== name));
  };
  const busy = ask.isPending || (pool && !ended(pool.run));
  return (
    <div className="mt-10">
      <Section title="Kept together" aside="what would be saved if volumes were one; of one volume, what its shares have in common">
        <div className="flex flex-wrap items-center gap-x-6 gap-y-2">
          {known.map((v) => <Check key={v.name} label={v.name} checked={chosen.includes(v.name)} onChange={(on) => choose(v.name, on)} />)}
          <Button disabled={chosen.length === 0 || busy} onClick={() => ask.mutate()}>{busy ? "Counting …" : "Compare"}</Button>
        </div>
        {(ask.error ?? answer.error) && <div className="mt-3"><Trouble error={ask.error ?? answer.error} /></div>}
        {pool && pool.run.state !== "done" && <div className="mt-3"><RunProgress run={pool.run} /></div>}
        {pool?.pooled && <Pooled pool={pool.pooled} summary={pool.summary} />}
      </Section>
    </div>
  );
}

function Pooled({ pool: p, summary }: { pool: Schemas["Pooled"]; summary: string }) {
  const several = p.alone.length > 1;
  return (
    <div className="mt-4 grid gap-4">
      <p className="font-medium">{summary}</p>
      <div className="grid gap-x-10 gap-y-4 lg:grid-cols-2">
        <table className="h-max w-full border-collapse">
          <thead>
            <tr className="border-y border-ink text-left text-sm text-soft">
              <th scope="col" className="py-1 font-medium">Kept</th><th scope="col" className="py-1 text-right font-medium">Bytes</th><th scope="col" className="py-1 text-right font-medium">Would take</th><th scope="col" className="py-1 text-right font-medium">Saves</th>
            </tr>
          </thead>
          <tbody>
            {several && p.alone.map((k) => <KeptRow key={k.name} k={k} name={`${k.name}, by itself`} />)}
            <KeptRow k={p.together} name="all together" bold />
            {p.shares.map((k) => <KeptRow key={`share ${k.name}`} k={k} name={k.name} />)}
          </tbody>
        </table>
        <div>
          <p className="border-y border-ink py-1 text-sm font-medium text-soft">Shares that should live together</p>
          {p.common.length === 0 && <p className="py-2 text-soft">None of them have anything in common.</p>}
          <ul>
            {p.common.slice(0, 12).map((c) => (
              <li key={c.a + c.b} className="flex items-baseline justify-between gap-4 border-b border-line py-1">
                <span className="min-w-0"><code className="break-all">{c.a}</code> and <code className="break-all">{c.b}</code></span>
                <span className="whitespace-nowrap"><Sure f={c.bytes} /> in common</span>
              </li>
            ))}
          </ul>
        </div>
      </div>
    </div>
  );
}

function KeptRow({ k, name, bold }: { k: Kept; name: string; bold?: boolean }) {
  return (
    <tr className={`border-b border-line ${bold ? "font-semibold" : ""}`}>
      <th scope="row" className={`py-1 pr-4 text-left ${bold ? "" : "font-normal"}`}>{name}</th><td className="py-1 text-right">{bytes(k.bytes)}</td><td className="py-1 text-right"><Sure f={k.stored} /></td><td className="py-1 text-right"><Sure f={k.saving} /></td>
    </tr>
  );
}
