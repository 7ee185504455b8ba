// Who of all users has at least a level at one place: asked beside its rights,
// and shown on a page of its own.
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { useWhoCan } from "../api/queries";
import { levelText } from "../components/level";
import { PlaceLink } from "../components/place";
import { ended, RunProgress } from "../components/run";
import { Status } from "../components/status";
import { Button, Empty, Facts, Loading, PageHead, Section, sentence, TextField, TextInput, Trouble } from "../components/ui";
import { plural, when } from "../format";

type Found = Schemas["WhoCan"];
type Level = Schemas["AskWhoCan"]["level"];

const levels: Level[] = ["full", "change", "write", "read", "list"];

/** Who of all users has at least a level? */
export function AskWhoCan({ path }: { path: string }) {
  const [part, setPart] = useState("");
  const ask = useMutation({ mutationFn: (level: Level) => got(api.POST("/api/v1/rights/who-can", { body: { path, level, filter: part.trim() || undefined } })) });
  const asked = ask.data ?? undefined;
  const query = useWhoCan(asked?.run.id);
  const found = query.data ?? asked;
  return (
    <Section title="Who can …" aside={found && <Link className="text-span underline underline-offset-2" to={`/runs/${found.run.id}`}>run {found.run.id}</Link>}>
      <div className="flex flex-wrap gap-1" role="group" aria-label="Level">
        {levels.map((l) => <Button key={l} aria-pressed={ask.variables === l} look={ask.variables === l ? "main" : "plain"} disabled={ask.isPending} onClick={() => ask.mutate(l)}>{l}</Button>)}
      </div>
      {((found && found.able > found.people.length && ended(found.run)) || part !== "") && (
        <div className="mt-2 max-w-64"><TextField label="Only users with this in their name" value={part} onChange={(e) => setPart(e.target.value)} help="Then choose the level again." /></div>
      )}
      <div aria-live="polite" className="mt-2">
        {ask.isPending && <Loading what="users" />}
        {ask.error && <Trouble error={ask.error} />}
        {found && !ask.isPending && (
          <>
            {found.run.state !== "done" && <RunProgress run={found.run} />}
            <Outcome found={found} />
            <People found={found} short />
          </>
        )}
      </div>
    </Section>
  );
}

function Outcome({ found: w }: { found: Found }) {
  return (
    <>
      <p>
        {!ended(w.run) && "So far "}
        {w.able.toLocaleString("en")} of {plural(w.looked, "user")}
        {w.filter && ` with “${w.filter}” in their name`} {w.able === 1 ? "has" : "have"} at least {w.level}.
        {w.able > w.people.length && w.people.length > 0 && ` The first ${w.people.length} by name are shown.`}
      </p>
      {!w.complete && <p className="text-warn">{sentence(`not complete: ${w.missing ?? ""}`)}</p>}
    </>
  );
}

function People({ found: w, short = false }: { found: Found; short?: boolean }) {
  const [filter, setFilter] = useState("");
  const shown = w.people.filter((p) => p.account.name.toLowerCase().includes(filter.toLowerCase()));
  if (w.people.length === 0) return null;
  return (
    <>
      {w.people.length > 10 && <TextInput type="search" aria-label="Filter users" placeholder="Filter users" value={filter} onChange={(e) => setFilter(e.target.value)} className="mb-1 max-w-64" />}
      <ul className={`border-t border-line ${short ? "max-h-56 overflow-auto" : ""}`} tabIndex={short ? 0 : undefined} aria-label="Users">
        {shown.map((p) => (
          <li key={p.account.sid} className="border-b border-line py-0.5">
            <span className="font-medium">{p.account.name}</span> {levelText(p)} <span className="block text-sm text-soft">{sentence((p.reasons ?? []).map((x) => x.text).join("; "))}</span>
          </li>
        ))}
      </ul>
      {shown.length === 0 && <Empty>No user shown here has “{filter}” in the name.</Empty>}
    </>
  );
}

export function WhoCanPage({ run }: { run: number }) {
  const query = useWhoCan(run);
  if (query.isPending) return <Loading what="the search" />;
  if (!query.data) return <Trouble error={query.error} retry={() => void query.refetch()} />;
  const w = query.data;
  return (
    <>
      <PageHead title={<>Who has at least {w.level}: {run}</>} verdict={<Verdict found={w} />} />
      <Facts
        facts={[
          ["Place", <PlaceLink key="p" place={w.place} />],
          ["Begun", `${when(w.run.created)}, by ${w.run.who}`],
        ]}
      />
      {w.run.state !== "done" && <div className="my-5"><RunProgress run={w.run} /></div>}
      <Section title="Users">
        <Outcome found={w} />
        <People found={w} />
      </Section>
    </>
  );
}

function Verdict({ found: w }: { found: Found }) {
  if (w.run.state !== "done") return <Status tone="none">{w.run.state}</Status>;
  if (!w.complete) return <Status tone="warn">not everybody could be asked</Status>;
  return <Status tone="good">{plural(w.looked, "user")} judged</Status>;
}
