// Whether a location holds what another one holds.
import { Link } from "react-router";
import type { Verification } from "../api/client";
import { useVerification } from "../api/queries";
import { RunProgress } from "../components/run";
import { Status } from "../components/status";
import { Empty, Facts, Loading, PageHead, Section, Trouble } from "../components/ui";
import { bytes, when } from "../format";

export function VerificationPage({ run }: { run: number }) {
  const query = useVerification(run);
  if (query.isPending) return <Loading what="the verification" />;
  if (!query.data) return <Trouble error={query.error} retry={() => void query.refetch()} />;
  const v = query.data;
  const n = v.counts;
  return (
    <>
      <PageHead title={<>Verification {run}</>} verdict={<Verdict v={v} />} />
      <Facts
        facts={[
          ["Signpost", <Link key="s" className="font-mono text-span underline underline-offset-2" to={`/namespaces/${v.path.split("/")[1]}`}>{v.path}</Link>],
          ["Against (first)", <code key="a">{v.against}</code>],
          ["Location (second)", <code key="l">{v.location}</code>],
          ["Begun", `${when(v.run.created)}, by ${v.run.who}`],
        ]}
      />
      {v.run.state !== "done" && <div className="my-5"><RunProgress run={v.run} /></div>}
      <div className="mt-6 grid gap-x-10 xl:grid-cols-[minmax(0,2fr)_minmax(0,3fr)]">
        <Section title="Compared" aside={`${n.compared.toLocaleString("en")} files and folders, ${bytes(n.bytes)}`}>
          <Facts
            facts={(
              [
                ["Missing at the second", n.missing],
                ["Only at the second", n.extra],
                ["Of another kind", n.kinds],
                ["Of other length", n.sizes],
                ["Of other time", n.times],
                ["With other permissions", n.permissions],
                ["Of other owners", n.owners],
                ["Explained", n.explained],
              ] as const
            ).map(([name, count]) => [name, <span key={name} className={count > 0 && name !== "Explained" ? "font-semibold text-warn" : ""}>{count.toLocaleString("en")}</span>])}
          />
          <p className="mt-2 text-sm text-soft">Explained differences are about accounts that only one of the servers has; they count for nothing.</p>
        </Section>
        <Section title="Where" aside={v.differences.length >= 200 ? "the first 200" : undefined}>
          {v.differences.length === 0 ? <Empty>{v.run.state === "done" ? "Nothing differs." : "Nothing differs so far."}</Empty> : (
            <ul className="border-t border-line">
              {v.differences.map((d, i) => (
                <li key={i} className="border-b border-line py-1">
                  <code className="break-all">{d.path}</code>
                  <span className="block text-sm text-soft">
                    {words[d.kind]}
                    {d.explained && ", explained"}
                    {d.kind !== "permissions" && d.first && `: ${d.first} → ${d.second}`}
                  </span>
                </li>
              ))}
            </ul>
          )}
        </Section>
      </div>
    </>
  );
}

const words: Record<string, string> = { missing: "missing at the second", extra: "only at the second", kind: "of another kind", size: "of other length", time: "changed at another time", permissions: "somebody may do more or less", owner: "belongs to somebody else" };

function Verdict({ v }: { v: Verification }) {
  if (v.run.state !== "done") return <Status tone="none">{v.run.state}</Status>;
  return <Status tone={v.verdict?.includes("does not hold") ? "bad" : "good"}>{v.verdict}</Status>;
}
