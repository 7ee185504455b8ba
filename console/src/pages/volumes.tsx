// What deduplication would save: the volumes that were estimated.
import { useMemo, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import type { EstimatedVolume } from "../api/client";
import { useEstimatedVolumes } from "../api/queries";
import { EstimateForm } from "../components/estimateform";
import { ended, RunProgress, RunState } from "../components/run";
import { Status } from "../components/status";
import { Sure } from "../components/sure";
import { DataTable, type Column } from "../components/table";
import { Button, Dialog, PageHead, Section } from "../components/ui";
import { PoolSection } from "./pool";
import { ago, bytes, percent, plural, signed, target } from "../format";

export const volumePage = (name: string) => `/dedup/${encodeURIComponent(name)}`;

const saving = (v: EstimatedVolume) => v.latest?.totals.saving.bytes ?? 0;
const rate = (v: EstimatedVolume) => (v.latest && v.latest.totals.inPolicy.bytes > 0 ? saving(v) / v.latest.totals.inPolicy.bytes : 0);

export function VolumesPage() {
  const volumes = useEstimatedVolumes();
  const navigate = useNavigate();
  const [query, setQuery] = useSearchParams();
  const places = query.getAll("place").map((p) => ({ server: p.split("/")[0] ?? "", share: p.split("/").slice(1).join("/") }));
  const [asked, setAsked] = useState(false);
  const asking = asked || places.length > 0;
  const setAsking = (on: boolean) => {
    setAsked(on);
    if (!on && places.length > 0) setQuery((q) => (q.delete("place"), q));
  };
  const columns = useMemo<Column<EstimatedVolume>[]>(
    () => [
      { head: "Volume", by: (v) => v.name, cell: (v) => <Link className="font-medium text-span underline underline-offset-2" to={volumePage(v.name)}>{v.name}</Link> },
      { head: "Made of", wide: true, by: (v) => v.places.map(target).join(), cell: (v) => <span className="font-mono text-sm">{v.places.map(target).join(", ")}</span> },
      { head: "Profile", by: (v) => v.profile, cell: (v) => v.profile },
      { head: "Holds", right: true, by: (v) => v.latest?.totals.bytes ?? 0, cell: (v) => (v.latest ? bytes(v.latest.totals.bytes) : "") },
      { head: "Would be saved", right: true, by: saving, cell: (v) => v.latest && <Sure f={v.latest.totals.saving} /> },
      { head: "Rate", right: true, by: rate, cell: (v) => (v.latest ? percent(rate(v)) : "") },
      { head: "Proved", right: true, by: (v) => (v.proof ? Math.abs(v.proof.offPercent) : 1000), cell: (v) => (v.proof ? `${Math.abs(v.proof.offPercent).toFixed(2)}% off` : "") },
      { head: "Free now", right: true, by: (v) => v.latest?.freeBytes ?? 0, cell: (v) => (v.latest ? bytes(v.latest.freeBytes) : "") },
      { head: "Estimated", right: true, by: (v) => v.latest?.at ?? "", cell: (v) => (v.latest ? ago(v.latest.at) : "never") },
      { head: "Now", by: (v) => v.busy?.state ?? "", cell: (v) => v.busy && <RunState run={v.busy} /> },
    ],
    [],
  );
  const busy = (volumes.data ?? []).flatMap((v) => (v.busy && !ended(v.busy) ? [v] : []));
  const failed = (volumes.data ?? []).filter((v) => v.busy?.state === "failed");
  const most = [...(volumes.data ?? [])].sort((a, b) => saving(b) - saving(a))[0];
  const begin = <Button look="main" onClick={() => setAsking(true)}>Estimate a volume</Button>;
  return (
    <>
      <PageHead
        title="Deduplication"
        verdict={failed.length > 0 ? <Status tone="bad">{plural(failed.length, "estimate")} failed</Status> : most?.latest ? <Status tone="good">{most.name} would save most: {signed(saving(most))}, {percent(rate(most))} of what is in policy</Status> : undefined}
      >
        {begin}
      </PageHead>
      {busy.length > 0 && (
        <Section title="Under way">
          {busy.map((v) => (
            <div key={v.name} className="mb-4 border-b border-line pb-3">
              <p className="mb-1 font-medium"><Link className="text-span underline underline-offset-2" to={volumePage(v.name)}>{v.name}</Link></p>
              {v.busy && <RunProgress run={v.busy} />}
            </div>
          ))}
        </Section>
      )}
      <DataTable what="volumes" query={volumes} columns={columns} keyOf={(v) => v.name} empty="No volume was estimated yet. An estimate reads the shares of a volume, changes nothing, and tells what would be saved and where." emptyAction={begin} />
      <PoolSection volumes={volumes.data ?? []} />
      <Dialog open={asking} onOpenChange={setAsking} title="Estimate a volume">
        {asking && <EstimateForm places={places} onCancel={() => setAsking(false)} onBegun={(e) => void navigate(volumePage(e.volume.name))} />}
      </Dialog>
    </>
  );
}
