// Another policy, counted from what was read: side by side with an estimate.
import { useMutation } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { useSearchParams } from "react-router";
import { api, got, type Estimate, type EstimatedVolume, type Found, type Schemas } from "../api/client";
import { useWhatIf } from "../api/queries";
import { CountingFields, policyOf, PolicyFields, typed, wayOf, type Way } from "../components/estimateform";
import { ended, RunProgress } from "../components/run";
import { Sure } from "../components/sure";
import { FindingLines } from "../components/findinglines";
import { Button, Section, Trouble } from "../components/ui";
import { percent, points, signed } from "../format";
import { rate } from "./volume";

export function WhatIfSection({ v, e, found }: { v: EstimatedVolume; e: Estimate; found: Found }) {
  const [query, setQuery] = useSearchParams();
  const run = Number(query.get("what-if")) || undefined;
  const answer = useWhatIf(run);
  const asked = answer.data?.asked.policy ?? e.asked.policy;
  return <Asking key={answer.data?.run.id} v={v} found={found} policy={asked} answer={answer.data} failed={answer.error} onAsked={(id) => setQuery((q) => (q.set("what-if", String(id)), q), { preventScrollReset: true })} />;
}

type AskingProps = { v: EstimatedVolume; found: Found; policy: Estimate["asked"]["policy"]; answer: ReturnType<typeof useWhatIf>["data"]; failed: unknown; onAsked: (run: number) => void };

function Asking({ v, found, policy, answer, failed, onAsked }: AskingProps) {
  const [rules, setRules] = useState(typed(policy));
  const [way, setWay] = useState<Way>(answer?.asked.anyway ? "anyway" : answer?.asked.exact ? "exact" : "sample");
  const ask = useMutation({
    mutationFn: () => got(api.POST("/api/v1/dedup/volumes/{volume}/what-ifs", { params: { path: { volume: v.name } }, body: { policy: policyOf(rules), ...wayOf(way) } })),
    onSuccess: (a) => onAsked(a.run.id),
  });
  const busy = ask.isPending || (answer && !ended(answer.run));
  const then = answer?.found;
  const sure = (bytes: number) => ({ bytes, low: bytes, high: bytes });
  const rows: [string, (f: Found) => Schemas["Figure"]][] = [
    ["In policy", (f) => sure(f.totals.inPolicy.bytes)],
    ["Equal files alone save", (f) => sure(f.wholeFilesSaving)],
    ["Would be saved", (f) => f.totals.saving],
  ];
  return (
    <Section title="Under another policy" aside="counted from what was read: the volume is left alone">
      <div className="grid gap-x-10 gap-y-4 lg:grid-cols-2">
        <div className="grid content-start gap-3">
          <PolicyFields value={rules} onChange={setRules} />
          <CountingFields value={way} onChange={setWay} />
          {(ask.error ?? failed) !== null && <Trouble error={ask.error ?? failed} />}
          <div><Button disabled={busy} onClick={() => ask.mutate()}>{busy ? "Counting …" : "What if?"}</Button></div>
        </div>
        <div>
          <table className="h-max w-full border-collapse">
            <thead>
              <tr className="border-y border-ink text-left text-sm text-soft"><th className="py-1 font-medium" scope="col"><span className="sr-only">Figure</span></th><th className="py-1 text-right font-medium" scope="col">As estimated</th><th className="py-1 pl-4 text-right font-medium" scope="col">Under this policy</th><th className="py-1 pl-4 text-right font-medium" scope="col">Difference</th></tr>
            </thead>
            <tbody>
              {rows.map(([name, of]) => <Row key={name} name={name} before={<Sure f={of(found)} />} after={then && <Sure f={of(then)} />} difference={then && signed(of(then).bytes - of(found).bytes)} />)}
              <Row name="Rate" before={percent(rate(found.totals))} after={then && percent(rate(then.totals))} difference={then && points(rate(then.totals) - rate(found.totals))} />
            </tbody>
          </table>
          {answer && answer.run.state !== "done" && <div className="mt-3"><RunProgress run={answer.run} /></div>}
        </div>
      </div>
      {answer && <div className="mt-3"><FindingLines list={answer.warnings} /></div>}
    </Section>
  );
}

function Row({ name, before, after = "", difference = "" }: { name: string; before: ReactNode; after?: ReactNode; difference?: string }) {
  return <tr className="border-b border-line"><th scope="row" className="py-1 pr-4 text-left font-normal">{name}</th><td className="py-1 text-right">{before}</td><td className="py-1 pl-4 text-right font-medium">{after}</td><td className="py-1 pl-4 text-right text-soft">{difference}</td></tr>;
}
