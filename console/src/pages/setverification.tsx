// Whether the replicas of a set hold the same: what was compared, and every
// difference that was found.
import { useState } from "react";
import { Link } from "react-router";
import type { ReplicaVerification } from "../api/client";
import { useReplicaVerification, useVerifyFindings } from "../api/queries";
import { kinds, setPage, VerifyVerdict } from "../components/replica";
import { RunProgress } from "../components/run";
import { Button, Empty, Facts, Loading, PageHead, Section, TextInput, Trouble } from "../components/ui";
import { bytes, when } from "../format";

export function SetVerificationPage({ run }: { run: number }) {
  const query = useReplicaVerification(run);
  if (query.isPending) return <Loading what="the verification" />;
  if (!query.data) return <Trouble error={query.error} retry={() => void query.refetch()} />;
  const v = query.data;
  return (
    <>
      <PageHead title={<>Verification {run}</>} verdict={<VerifyVerdict v={v} />}>
        <a className="border border-ink px-3 py-1 hover:bg-wash" href={`/api/v1/replica-verifications/${run}/report`} download={`verification-${run}.html`}>Report</a>
        {v.level === "full" && v.run.state === "done" && <a className="border border-ink px-3 py-1 hover:bg-wash" href={`/api/v1/replica-verifications/${run}/manifest`} download={`${v.set}.sha256`}>Checksums</a>}
      </PageHead>
      <Facts
        facts={[
          ["Replica set", <Link key="s" className="text-span underline underline-offset-2" to={setPage(v.set)}>{v.set}</Link>],
          ["Level", levels[v.level]],
          ["Compared with", v.against || "the seed"],
          ["Begun", `${when(v.run.created)}, by ${v.run.who}`],
        ]}
      />
      {v.run.state !== "done" && <div className="my-5"><RunProgress run={v.run} /></div>}
      <div className="mt-6" />
      <Section title="Replicas"><Replicas v={v} /></Section>
      <Section title="Differences"><Differences v={v} run={run} /></Section>
    </>
  );
}

export const levels: Record<ReplicaVerification["level"], string> = { names: "names, sizes, times, attributes and permissions", sample: "names, and the contents of a sample", full: "every byte" };

function Replicas({ v }: { v: ReplicaVerification }) {
  if (v.replicas.length === 0) return <Empty>Nothing was compared yet.</Empty>;
  return (
    <ul className="border-t border-line">
      {v.replicas.map((r) => (
        <li key={r.replica} className="border-b border-line py-2">
          <span className="font-medium">{r.replica}</span>
          <span className="ml-3 text-soft">{r.counts.compared.toLocaleString("en")} files and folders compared, {bytes(r.read)} read at each end</span>
          <span className="block">{kinds(r.counts).join(", ") || "no differences"}</span>
          {r.sampled ? <span className="block text-soft">{r.sampled.toLocaleString("en")} files were read: with a confidence of 95%, at most {(100 * (r.atMost ?? 0)).toPrecision(2)}% of all differ in content.</span> : null}
          {r.opened?.map((path) => <span key={path} className="block">The location of <code>{path}</code> here was held, and is open now.</span>)}
        </li>
      ))}
    </ul>
  );
}

function Differences({ v, run }: { v: ReplicaVerification; run: number }) {
  const [filter, setFilter] = useState("");
  const query = useVerifyFindings(run, filter);
  const found = query.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <>
      <TextInput type="search" aria-label="Filter differences" placeholder="Filter by path" value={filter} onChange={(e) => setFilter(e.target.value)} className="mb-2 max-w-64" />
      {query.isPending && <Loading what="the differences" />}
      {query.error && <Trouble error={query.error} retry={() => void query.refetch()} />}
      {query.data && found.length === 0 && <Empty>{filter ? "No difference has that in its path." : v.run.state === "done" ? "Nothing differs." : "Nothing differs so far."}</Empty>}
      {found.length > 0 && (
        <div className="overflow-x-auto" tabIndex={0} role="group" aria-label="Differences">
          <table className="w-full border-collapse">
            <thead><tr className="border-y border-ink text-left">{["Replica", "Path", "Differs in", v.against, "There"].map((h) => <th key={h} scope="col" className="py-1 pr-4 pl-1 font-medium">{h}</th>)}</tr></thead>
            <tbody>
              {found.map((d, i) => (
                <tr key={i} className={`border-b border-line align-baseline ${d.explained ? "text-soft" : ""}`}>
                  <td className="py-1 pr-4 pl-1">{d.replica}</td>
                  <td className="py-1 pr-4 pl-1"><code className="break-all">{d.path}</code></td>
                  <td className="py-1 pr-4 pl-1">{d.kind}{d.why && <span className="block text-sm">{d.why}</span>}</td>
                  <td className="py-1 pr-4 pl-1">{d.first}</td>
                  <td className="py-1 pr-4 pl-1">{d.second}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {query.hasNextPage && <div className="mt-2"><Button disabled={query.isFetchingNextPage} onClick={() => void query.fetchNextPage()}>Show more</Button></div>}
    </>
  );
}
