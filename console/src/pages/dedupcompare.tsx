// The estimates of a volume, and two of them side by side.
import { useMemo } from "react";
import { Link, useSearchParams } from "react-router";
import type { EstimatedVolume, Found, Schemas } from "../api/client";
import { useEstimateComparison } from "../api/queries";
import { Sure } from "../components/sure";
import { DataTable, type Column } from "../components/table";
import { Button, Section, Trouble } from "../components/ui";
import { bytes, percent, points, signed, when } from "../format";
import { rate } from "./volume";

type Point = Schemas["EstimatePoint"];

export function CompareSection({ v, shown }: { v: EstimatedVolume; shown: number }) {
  const [query, setQuery] = useSearchParams();
  const since = Number(query.get("since")) || undefined;
  const columns = useMemo<Column<Point>[]>(
    () => [
      { head: "Estimate", right: true, by: (p) => p.run, cell: (p) => <Link className="text-span underline underline-offset-2" to={`?run=${p.run}`}>{p.run}</Link> },
      { head: "When", by: (p) => p.at, cell: (p) => when(p.at) },
      { head: "Holds", right: true, by: (p) => p.totals.bytes, cell: (p) => bytes(p.totals.bytes) },
      { head: "In policy", right: true, by: (p) => p.totals.inPolicy.bytes, cell: (p) => bytes(p.totals.inPolicy.bytes) },
      { head: "Would be saved", right: true, by: (p) => p.totals.saving.bytes, cell: (p) => <Sure f={p.totals.saving} /> },
      { head: "Rate", right: true, by: (p) => rate(p.totals), cell: (p) => percent(rate(p.totals)) },
      { head: "Read for it", right: true, by: (p) => p.readBytes, cell: (p) => bytes(p.readBytes) },
      { head: "Free then", right: true, by: (p) => p.freeBytes, cell: (p) => bytes(p.freeBytes) },
      { head: "Beside the one shown", cell: (p) => (p.run === shown ? "shown" : <Button look="quiet" onClick={() => setQuery((q) => (q.set("since", String(p.run)), q), { preventScrollReset: true })}>Compare</Button>) },
    ],
    [shown, setQuery],
  );
  if (v.trend.length < 2) return null;
  const newest = [...v.trend].reverse();
  return (
    <Section title="Estimates" aside="each can be shown again, and compared">
      <DataTable what="estimates" query={{ data: newest, error: undefined, isPending: false, refetch: () => undefined }} columns={columns} keyOf={(p) => String(p.run)} empty="None." />
      {since !== undefined && since !== shown && <Comparison first={since} second={shown} />}
    </Section>
  );
}

const sure = (n: number) => ({ bytes: n, low: n, high: n });

const rows: [string, (f: Found) => Schemas["Figure"]][] = [
  ["Holds", (f) => sure(f.totals.bytes)],
  ["In policy", (f) => sure(f.totals.inPolicy.bytes)],
  ["Different chunks", (f) => f.totals.unique],
  ["Compressed", (f) => f.totals.packed],
  ["Equal files alone save", (f) => sure(f.wholeFilesSaving)],
  ["Would be saved", (f) => f.totals.saving],
];

function Comparison({ first, second }: { first: number; second: number }) {
  const both = useEstimateComparison(first, second);
  if (both.error) return <div className="mt-3"><Trouble error={both.error} retry={() => void both.refetch()} /></div>;
  const a = both.data?.before.found, b = both.data?.after.found;
  if (!a || !b) return null;
  return (
    <table className="mt-4 w-full max-w-4xl border-collapse">
      <caption className="mb-1 text-left font-medium">Two estimates side by side</caption>
      <thead>
        <tr className="border-y border-ink text-left text-sm text-soft">
          <th scope="col" className="py-1 font-medium"><span className="sr-only">Figure</span></th>
          {[both.data?.before, both.data?.after].map((e) => e && <th key={e.run.id} scope="col" className="py-1 pl-4 text-right font-medium">{e.run.id}, {when(e.found?.totals.now ?? e.run.created)}</th>)}
          <th scope="col" className="py-1 pl-4 text-right font-medium">Difference</th>
        </tr>
      </thead>
      <tbody>
        {rows.map(([name, of]) => (
          <tr key={name} className="border-b border-line">
            <th scope="row" className="py-1 pr-4 text-left font-normal">{name}</th><td className="py-1 pl-4 text-right"><Sure f={of(a)} /></td><td className="py-1 pl-4 text-right"><Sure f={of(b)} /></td><td className="py-1 pl-4 text-right text-soft">{signed(of(b).bytes - of(a).bytes)}</td>
          </tr>
        ))}
        <tr className="border-b border-line"><th scope="row" className="py-1 pr-4 text-left font-normal">Rate</th><td className="py-1 pl-4 text-right">{percent(rate(a.totals))}</td><td className="py-1 pl-4 text-right">{percent(rate(b.totals))}</td><td className="py-1 pl-4 text-right text-soft">{points(rate(b.totals) - rate(a.totals))}</td></tr>
      </tbody>
    </table>
  );
}
