// How the permissions of two places and of everything below them differ: who
// gains, who loses, and where.
import { useState } from "react";
import type { Comparison } from "../api/client";
import { useComparisonRun, useDifferences } from "../api/queries";
import { PlaceLink } from "../components/place";
import { ended, RunProgress } from "../components/run";
import { ShiftText } from "../components/shift";
import { Status } from "../components/status";
import { Button, Empty, Facts, Loading, PageHead, Section, TextInput, Trouble } from "../components/ui";
import { plural, when } from "../format";

export function ComparisonPage({ run }: { run: number }) {
  const query = useComparisonRun(run);
  if (query.isPending) return <Loading what="the comparison" />;
  if (!query.data?.run) return <Trouble error={query.error} retry={() => void query.refetch()} />;
  const c = query.data;
  return (
    <>
      <PageHead title={<>Comparison {run}</>} verdict={<Verdict comparison={c} />} />
      <Facts
        facts={[
          ["First", <PlaceLink key="a" place={c.first} />],
          ["Second", <PlaceLink key="b" place={c.second} />],
          ["Begun", `${when(query.data.run.created)}, by ${query.data.run.who}`],
        ]}
      />
      {query.data.run.state !== "done" && <div className="my-5"><RunProgress run={query.data.run} /></div>}
      <div className="mt-6 grid gap-x-10 xl:grid-cols-[minmax(0,2fr)_minmax(0,3fr)]">
        <div>
          <Section title="Compared" aside={ended(query.data.run) ? undefined : "so far"}>
            <Facts
              facts={[
                ["Files and folders", c.looked.toLocaleString("en")],
                ["Differ", c.differ.toLocaleString("en")],
                ["Only at the first", c.onlyFirst.toLocaleString("en")],
                ["Only at the second", c.onlySecond.toLocaleString("en")],
                ["Unreadable", c.unreadable.toLocaleString("en")],
              ]}
            />
          </Section>
          <Section title="Who gains, who loses" aside="at the second, on how many">
            <Totals totals={c.accounts} />
          </Section>
          {c.share.length > 0 && (
            <Section title="Through the share itself">
              <ul className="border-t border-line">{c.share.map((s) => <li key={s.account.sid} className="border-b border-line py-0.5"><ShiftText shift={s} /></li>)}</ul>
            </Section>
          )}
        </div>
        <Section title="Where">
          <Differences run={run} />
        </Section>
      </div>
    </>
  );
}

function Verdict({ comparison: c }: { comparison: Comparison }) {
  if (c.run?.state !== "done") return <Status tone="none">{c.run?.state}</Status>;
  const n = c.differ + c.onlyFirst + c.onlySecond + c.unreadable;
  if (n + c.share.length === 0) return <Status tone="good">nobody gains and nobody loses</Status>;
  return <Status tone="warn">{plural(n, "difference")}</Status>;
}

function Totals({ totals }: { totals: Comparison["accounts"] }) {
  if (totals.length === 0) return <Empty>Nobody gains and nobody loses on what is in both places.</Empty>;
  return (
    <table className="w-full border-collapse">
      <thead>
        <tr className="border-y border-ink text-left">
          <th scope="col" className="py-1 font-medium">Account</th>
          <th scope="col" className="py-1 pl-3 text-right font-medium">Gains</th>
          <th scope="col" className="py-1 pl-3 text-right font-medium">Loses</th>
        </tr>
      </thead>
      <tbody>
        {totals.map((t) => (
          <tr key={t.account.sid} className="border-b border-line align-baseline">
            <th scope="row" className="py-1 text-left font-medium break-words">{t.account.name}</th>
            <td className="py-1 pl-3 text-right">{t.gains.toLocaleString("en")}</td>
            <td className="py-1 pl-3 text-right">{t.loses.toLocaleString("en")}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Differences({ run }: { run: number }) {
  const [filter, setFilter] = useState("");
  const query = useDifferences(run, filter);
  const list = query.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <>
      <TextInput type="search" aria-label="Filter differences" placeholder="Part of the path" value={filter} onChange={(e) => setFilter(e.target.value)} className="mb-2 max-w-80" />
      {query.isPending && <Loading what="the differences" />}
      {query.error && <Trouble error={query.error} retry={() => void query.refetch()} />}
      {query.data && list.length === 0 && <Empty>{filter ? `No path with “${filter}” differs.` : "Nothing differs."}</Empty>}
      <ul className="border-t border-line">
        {list.map((d) => (
          <li key={d.path} className="border-b border-line py-1">
            <code className="break-all">{d.path}{d.folder && d.path !== "." ? "/" : ""}</code>
            <span className="block text-sm text-soft">{d.unread ? `cannot be read: ${d.unread}` : d.only ? `only at the ${d.only}` : d.shifts?.length ? d.shifts.map((s, i) => <span key={s.account.sid}>{i > 0 && "; "}<ShiftText shift={s} /></span>) : "the text differs, not what it grants"}</span>
          </li>
        ))}
      </ul>
      {query.hasNextPage && <div className="mt-3"><Button disabled={query.isFetchingNextPage} onClick={() => void query.fetchNextPage()}>{query.isFetchingNextPage ? "Reading …" : "Show more"}</Button></div>}
    </>
  );
}
