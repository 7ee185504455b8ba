// One volume: what deduplication would save on it, where, and under which policy.
import { useQueryClient } from "@tanstack/react-query";
import { useMemo, useState, type ReactNode } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { api, etag, got, type Estimate, type EstimatedVolume, type Found, type Policy, type Schemas } from "../api/client";
import { useEstimate, useEstimatedVolume } from "../api/queries";
import { SavingByAge } from "../components/chart";
import { EstimateForm } from "../components/estimateform";
import { SaveForm } from "../components/form";
import { ended } from "../components/run";
import { Status } from "../components/status";
import { exact, Sure } from "../components/sure";
import { DataTable, type Column } from "../components/table";
import { Treemap } from "../components/treemap";
import { FindingLines } from "../components/findinglines";
import { Button, Dialog, Empty, Facts, Loading, PageHead, Section, Select, sentence, Trouble } from "../components/ui";
import { ago, bytes, percent, plural, signed, target, when } from "../format";
import { AlikeSection } from "./dedupalike";
import { CompareSection } from "./dedupcompare";
import { PlanSection } from "./dedupplan";
import { ProgressSection } from "./dedupprogress";
import { ProofSection } from "./dedupproof";
import { runwayWords, TrendSection } from "./deduptrend";
import { WhatIfSection } from "./dedupwhatif";

type Totals = Schemas["Totals"];
type Part = Schemas["Part"];

export const rate = (t: Totals, n = t.saving.bytes) => (t.inPolicy.bytes > 0 ? n / t.inPolicy.bytes : 0);

export function VolumePage() {
  const name = useParams().volume ?? "";
  const [query] = useSearchParams();
  const volume = useEstimatedVolume(name);
  const shown = Number(query.get("run")) || (volume.data?.latest?.run ?? volume.data?.busy?.id);
  const running = volume.data?.busy && !ended(volume.data.busy) ? volume.data.busy : undefined;
  const estimate = useEstimate(shown, shown !== running?.id);
  if (volume.isPending) return <Loading what="the volume" />;
  if (!volume.data) return <Trouble error={volume.error} retry={() => void volume.refetch()} />;
  const v = volume.data;
  const e = estimate.data;
  return (
    <>
      <PageHead title={v.name} verdict={<Verdict v={v} found={e?.found} />}>
        <Actions v={v} policy={e?.asked.policy} />
      </PageHead>
      {v.busy && <ProgressSection run={v.busy} />}
      {estimate.error && <Trouble error={estimate.error} retry={() => void estimate.refetch()} />}
      {e && <Known e={e} />}
      {e?.found ? <FoundView v={v} e={e} found={e.found} /> : !v.busy && <Empty>No estimate of it came to its end yet.</Empty>}
    </>
  );
}

function Verdict({ v, found }: { v: EstimatedVolume; found?: Found }) {
  if (!found) return <Status tone="none">{v.busy ? `estimate ${v.busy.state}` : "not estimated yet"}</Status>;
  const t = found.totals;
  return (
    <Status tone={t.saving.bytes > 0 ? "good" : "warn"}>
      {signed(t.saving.bytes)} of {bytes(t.inPolicy.bytes)} would be saved, {percent(rate(t))}
      {!exact(t.saving) && ` (between ${percent(rate(t, t.saving.low))} and ${percent(rate(t, t.saving.high))}, with 95% confidence)`}
    </Status>
  );
}

function Actions({ v, policy }: { v: EstimatedVolume; policy?: Policy }) {
  const [asking, setAsking] = useState(false);
  const [forgetting, setForgetting] = useState(false);
  const queries = useQueryClient();
  const navigate = useNavigate();
  return (
    <>
      <Button onClick={() => setForgetting(true)}>Forget …</Button>
      <Button look="main" disabled={v.busy && !ended(v.busy)} onClick={() => setAsking(true)}>Estimate again</Button>
      <Dialog open={asking} onOpenChange={setAsking} title={`Estimate ${v.name} again`} lead="What has not changed since it was read is not read again.">
        {asking && <EstimateForm volume={v} policy={policy} onCancel={() => setAsking(false)} onBegun={() => { setAsking(false); void queries.invalidateQueries({ queryKey: ["run"] }); void navigate(`/dedup/${encodeURIComponent(v.name)}`); }} />}
      </Dialog>
      <Dialog open={forgetting} onOpenChange={setForgetting} title={`Forget ${v.name}`} lead="What was read of it and its trend are forgotten. No file of the volume is touched; an estimate would read all of it again.">
        <SaveForm danger action="Forget it" onCancel={() => setForgetting(false)} done={`${v.name} is forgotten.`} onDone={() => void navigate("/dedup")}
          save={() => got(api.DELETE("/api/v1/dedup/volumes/{volume}", { params: { path: { volume: v.name }, header: { "If-Match": etag(v.version) } } }))} />
      </Dialog>
    </>
  );
}

function Known({ e }: { e: Estimate }) {
  const { troubles, trouble, unlisted } = e.progress;
  if (e.warnings.length === 0 && troubles.length === 0) return null;
  return (
    <div className="mb-6">
      <FindingLines list={e.warnings} />
      {troubles.length > 0 && (
        <details className="border-b border-line py-1.5">
          <summary className="cursor-pointer"><Status tone="warn">{plural(trouble + unlisted, "file or folder", "files and folders")} could not be read.</Status></summary>
          <ul className="mt-1 pl-4">{troubles.map((t) => <li key={t}><code className="text-sm break-all">{t}</code></li>)}</ul>
        </details>
      )}
    </div>
  );
}

function FoundView({ v, e, found }: { v: EstimatedVolume; e: Estimate; found: Found }) {
  const t = found.totals;
  const p = e.progress;
  return (
    <>
      <Section title="What it comes to" aside={<>estimate {e.run.id}, {when(t.now)} · <a className="text-span underline underline-offset-2" href={`/api/v1/dedup/estimates/${e.run.id}/report`} download={`estimate-${e.run.id}.html`}>Report</a></>}>
        <Ledger found={found} />
        <div className="mt-4 grid gap-x-10 gap-y-4 lg:grid-cols-2">
          <Facts
            facts={[
              ["Holds", `${bytes(t.bytes)} in ${plural(t.files, "file")}, occupying ${bytes(t.allocatedBytes)}`],
              ["In policy", `${bytes(t.inPolicy.bytes)} in ${plural(t.inPolicy.files, "file")}`],
              ...t.left.map((l): [string, ReactNode] => [`Not: ${l.why}`, `${bytes(l.bytes)} in ${plural(l.files, "file")}`]),
              ...(v.latest && v.latest.capacityBytes > 0 ? [["Free space", `${bytes(v.latest.freeBytes)} of ${bytes(v.latest.capacityBytes)}${v.runway ? `; ${runwayWords(v.runway)}` : ""}`] as [string, ReactNode]] : []),
              ...(t.holeBytes > 0 ? [["Holes of sparse files", `${bytes(t.holeBytes)}, which take no space now`] as [string, ReactNode]] : []),
            ]}
          />
          <Facts
            facts={[
              ["Different chunks", <Sure key="u" f={t.unique} />],
              ["Compressed", <Sure key="p" f={t.packed} />],
              ["To know whose they are", bytes(t.metadataBytes)],
              ["Counted", t.sampled > 1 ? `one chunk in ${t.sampled}, chosen by its value` : "every chunk"],
              ["Compression measured", `on ${plural(t.measured, "chunk")}${t.exact ? ", which is all of them" : ""}`],
              ["Last proof", v.proof ? `${Math.abs(v.proof.offPercent).toFixed(2)}% off, on ${v.proof.folder}, ${ago(v.proof.at)}` : "none yet"],
              ["Read for it", p.readBytes > 0 ? `${bytes(p.readBytes)} at ${bytes((p.readBytes * 1000) / Math.max(1, p.readMs))}/s` : "nothing: nothing had changed"],
            ]}
          />
        </div>
        <p className="mt-3 max-w-4xl text-sm text-soft">Profile {t.profile}: {e.profileWhy}.</p>
      </Section>
      <Section title="Where the saving is"><Treemap root={found.where.folders} /></Section>
      <Breakdown found={found} name={v.name} />
      <Suggestions found={found} />
      <Section title="Least age" aside="what would be saved if only files were deduplicated that were not changed for so long"><SavingByAge points={found.curve} chosen={e.asked.policy?.minDays ?? 0} /></Section>
      <WhatIfSection key={e.run.id} v={v} e={e} found={found} />
      <PlanSection volume={v.name} />
      <ProofSection v={v} />
      <AlikeSection found={found} />
      <CompareSection v={v} shown={e.run.id} />
      <TrendSection v={v} policy={e.asked.policy} />
      <p className="text-sm text-soft">Made of {v.places.map(target).join(", ")}.</p>
    </>
  );
}

/** From what is in policy to what would be stored, step by step. */
function Ledger({ found }: { found: Found }) {
  const t = found.totals;
  const whole = found.wholeFilesSaving;
  const chunks = Math.max(0, t.inPolicy.bytes - whole - t.unique.bytes);
  const packing = t.unique.bytes - t.packed.bytes;
  const stored = t.packed.bytes + t.metadataBytes;
  const parts = [
    { name: "would be stored", n: stored, look: "bg-inset text-ink" },
    { name: "compression", n: packing, look: "bg-span/40 text-ink" },
    { name: "parts that files share", n: chunks, look: "bg-span/70 text-ink" },
    { name: "equal files", n: whole, look: "bg-span text-on-span" },
  ].filter((p) => p.n > 0);
  const all = parts.reduce((n, p) => n + p.n, 0);
  if (all === 0) return <Empty>Nothing is in policy.</Empty>;
  return (
    <figure aria-label="What would be stored and what would be saved">
      <div className="flex h-12 border border-ink" aria-hidden>
        {parts.map((p) => <div key={p.name} className={`h-full border-r border-ink last:border-r-0 ${p.look}`} style={{ width: `${(100 * p.n) / all}%` }} />)}
      </div>
      <figcaption className="mt-1.5 flex flex-wrap gap-x-6 gap-y-1">
        {parts.map((p) => (
          <span key={p.name} className="inline-flex items-baseline gap-1.5">
            <span className={`inline-block size-3 border border-ink ${p.look}`} aria-hidden />
            <span>{p.name}</span><span className="font-medium">{bytes(p.n)}</span><span className="text-soft">{percent(p.n / all)}</span>
          </span>
        ))}
      </figcaption>
    </figure>
  );
}

const kinds = [
  { value: "folders", label: "folder" },
  { value: "types", label: "type" },
  { value: "ages", label: "age" },
  { value: "sizes", label: "size" },
  { value: "owners", label: "owner" },
] as const;

function partsOf(found: Found, by: (typeof kinds)[number]["value"]): Part[] {
  if (by !== "folders") return found.where[by];
  const list: Part[] = [];
  const walk = (n: Schemas["Node"], above: string) => {
    for (const b of n.below ?? []) {
      const name = above ? `${above}/${b.name}` : b.name;
      list.push({ ...b, name });
      walk(b, name);
    }
  };
  walk(found.where.folders, "");
  return list;
}

function Breakdown({ found, name }: { found: Found; name: string }) {
  const [by, setBy] = useState<string>("types");
  const parts = useMemo(() => partsOf(found, by as (typeof kinds)[number]["value"]).filter((p) => p.files > 0), [found, by]);
  const word = kinds.find((k) => k.value === by)?.label ?? "";
  const columns = useMemo<Column<Part>[]>(
    () => [
      { head: word.charAt(0).toUpperCase() + word.slice(1), by: (p) => p.name, cell: (p) => <span className="break-all">{p.name}</span>, wide: true },
      { head: "Files", right: true, by: (p) => p.files, cell: (p) => p.files.toLocaleString("en") },
      { head: "Bytes", right: true, by: (p) => p.bytes, cell: (p) => bytes(p.bytes) },
      { head: "Would take", right: true, by: (p) => p.storedBytes, cell: (p) => bytes(p.storedBytes) },
      { head: "Saves", right: true, by: (p) => p.saving, cell: (p) => signed(p.saving) },
      { head: "Rate", right: true, by: (p) => p.saving / Math.max(1, p.bytes), cell: (p) => percent(p.saving / Math.max(1, p.bytes)) },
    ],
    [word],
  );
  return (
    <Section
      title={`By ${word}`}
      aside={
        <span className="flex items-center gap-3">
          <a className="text-span underline underline-offset-2" download={`${name} by ${word}.csv`} href={csv(word, parts)}>Export</a>
          <span className="w-32"><Select label="By" value={by} onChange={setBy} options={[...kinds]} /></span>
        </span>
      }
    >
      <DataTable what={`${word}s`} query={{ data: parts, error: undefined, isPending: false, refetch: () => undefined }} columns={columns} keyOf={(p) => p.name} empty="Nothing is in policy." />
    </Section>
  );
}

const csv = (head: string, parts: Part[]) => {
  // A name that a spreadsheet would run begins with an apostrophe.
  const plain = (text: string | number) => (typeof text === "string" && /^\s*[=+\-@\t\r]/.test(text) ? `'${text}` : String(text));
  const cell = (text: string | number) => `"${plain(text).replaceAll('"', '""')}"`;
  const rows = [[head, "files", "bytes", "stored bytes", "saved bytes"], ...parts.map((p) => [p.name, p.files, p.bytes, p.storedBytes, p.saving])];
  return `data:text/csv;charset=utf-8,${encodeURIComponent(rows.map((r) => r.map(cell).join(",")).join("\r\n"))}`;
};

function Suggestions({ found }: { found: Found }) {
  if (found.suggested.length === 0) return null;
  return (
    <Section title="What might be left out">
      <ul className="border-t border-line">
        {found.suggested.map((s) => (
          <li key={s.what} className="border-b border-line py-1.5">
            Leaving out <span className="font-medium">{s.what}</span> costs {s.costsPercent.toFixed(1)}% of the saving and spares {s.readingPercent.toFixed(0)}% of the reading. <span className="text-soft">{sentence(s.why)} <code>{s.leaveOut.join(" ")}</code></span>
          </li>
        ))}
      </ul>
    </Section>
  );
}
