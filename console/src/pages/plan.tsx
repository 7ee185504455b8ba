// The plan of a replica set: what it is to be made of, what was found out, and
// what making it will do. What was typed is kept in the browser, and what was
// found out is a run: the page can be left at any step, and gone back to.
import { useMutation } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { Link, useSearchParams } from "react-router";
import { api, got, Problem, type NewReplicaSet, type ReplicaCreation, type ReplicaPlan, type Schemas } from "../api/client";
import { useReplicaCreation, useReplicaPlan } from "../api/queries";
import { FindingLines } from "../components/findinglines";
import { Asked, bodyOf, empty, placeOf, useDraftOnShelf } from "../components/asked";
import { StepList } from "../components/steps";
import { setPage } from "../components/replica";
import { ended, RunProgress } from "../components/run";
import { SpanStrip } from "../components/span";
import { outcomeTone, Status } from "../components/status";
import { Facts, Button, Loading, PageHead, Section, sentence, Trouble } from "../components/ui";
import { money, bytes, target, when } from "../format";

export function PlanPage() {
  const [params, setParams] = useSearchParams();
  const run = Number(params.get("run")) || undefined;
  const plan = useReplicaPlan(run);
  const [draft, change, clear] = useDraftOnShelf(plan.data?.asked);
  const find = useMutation({ mutationFn: () => got(api.POST("/api/v1/replica-plans", { body: bodyOf(draft) })), onSuccess: (p) => setParams({ run: String(p.run.id) }) });
  const create = useMutation({
    mutationFn: (asked: NewReplicaSet) => got(api.POST("/api/v1/replica-sets", { body: asked })),
    onSuccess: (made) => setParams(run ? { run: String(run), made: String(made.run.id) } : { made: String(made.run.id) }),
  });
  const made = useReplicaCreation(Number(params.get("made")) || undefined);
  // A signpost brings its locations: those are to be kept the same.
  useEffect(() => {
    const places = params.getAll("place").map((text) => text.split("/")).map(([server = "", share = "", ...sub]) => placeOf({ server, share, sub: sub.join("/") }));
    if (places.length < 2) return;
    change({ ...empty, name: params.get("name") ?? "", places, publish: params.get("publish") ?? "" });
    setParams({}, { replace: true });
  }, [params, change, setParams]);
  const same = plan.data && JSON.stringify(bodyOf(draft)) === JSON.stringify({ ...bodyOf(draft), ...plan.data.asked });
  const errors = find.error instanceof Problem ? find.error.fields : {};
  return (
    <>
      <PageHead title="Plan a replica set" verdict={<span className="text-soft">A folder that is kept the same in several places. Nothing is changed before you say so.</span>} />
      <Section title="What it is to be">
        <Asked draft={draft} change={change} errors={errors} intake={plan.data?.intake} />
        {find.error && <div className="mt-3"><Trouble error={find.error} /></div>}
        <div className="mt-4 flex gap-2">
          <Button look={same ? "plain" : "main"} disabled={find.isPending} onClick={() => find.mutate()}>{plan.data ? "Find out again" : "Find out what comes of it"}</Button>
          <Button look="quiet" onClick={() => { clear(); setParams({}); }}>Begin anew</Button>
        </div>
      </Section>
      {run !== undefined && plan.isPending && <Loading what="the plan" />}
      {plan.error && !plan.data && <Trouble error={plan.error} />}
      {plan.data && <Found plan={plan.data} />}
      {plan.data?.summary && (
        <Section title="Making it will">
          <ol className="list-decimal pl-6">{plan.data.steps.map((s) => <li key={s}>{s}</li>)}</ol>
          {create.error && <div className="mt-3"><Trouble error={create.error} /></div>}
          <div className="mt-4 flex items-baseline gap-3">
            <Button look="main" disabled={create.isPending || !plan.data.canCreate || (made.data && made.data.run.state !== "failed")} onClick={() => create.mutate(plan.data.asked)}>Make {plan.data.asked.name}</Button>
            {!plan.data.canCreate && <Status tone="bad">something above stands in its way</Status>}
          </div>
        </Section>
      )}
      {made.error && <Trouble error={made.error} />}
      {made.data && <Made creation={made.data} onLeave={clear} />}
    </>
  );
}

/** How far the making is, and where to go from there. */
export function Made({ creation, onLeave }: { creation: ReplicaCreation; onLeave: () => void }) {
  // It begins below what is in view.
  const top = useRef<HTMLDivElement>(null);
  useEffect(() => {
    top.current?.scrollIntoView({ block: "start" });
  }, []);
  return (
    <Section title={`Making ${creation.set}`}>
      <div ref={top} className="scroll-mt-12"><StepList steps={creation.steps} over={ended(creation.run)} /></div>
      <div className="mt-4">
        {!ended(creation.run) && <RunProgress run={creation.run} />}
        {creation.run.state === "done" && <p><Status tone="good">made</Status> <Link className="text-span underline underline-offset-2" to={setPage(creation.set)} onClick={onLeave}>See how {creation.set} is filled</Link></p>}
        {(creation.run.state === "failed" || creation.run.state === "stopped") && <p><Status tone="bad">not made</Status> What was begun is taken back.{!creation.steps.some((s) => s.state === "failed") && creation.run.trouble && ` ${sentence(creation.run.trouble)}`}</p>}
      </div>
    </Section>
  );
}

export function Found({ plan }: { plan: ReplicaPlan }) {
  return (
    <>
      <Section title="What comes of it">
        {!ended(plan.run) || plan.run.state !== "done" ? <RunProgress run={plan.run} /> : <p className="max-w-4xl text-lg"><Status tone={outcomeTone(plan.outcome ?? "pass")}>{plan.outcome}</Status> {plan.summary}</p>}
      </Section>
      {plan.costs && <Section title="Costs of the bucket"><Costs costs={plan.costs} /></Section>}
      {plan.places.length > 0 && <Section title="What is there now"><Places plan={plan} /></Section>}
      {plan.layouts.length > 0 && <Section title="Layouts side by side"><Layouts plan={plan} /></Section>}
      {plan.layouts.some((l) => l.legs.length > 0) && <Section title="What crosses the legs"><Legs plan={plan} /></Section>}
      {plan.checks.length > 0 && <Section title="Checks"><FindingLines list={[...plan.checks].sort((a, b) => rank[a.severity] - rank[b.severity])} /></Section>}
    </>
  );
}

const rank = { fail: 0, warn: 1, pass: 2 };

function Costs({ costs: c }: { costs: Schemas["CloudCosts"] }) {
  return (
    <Facts
      facts={[
        ["Storage", `${bytes(c.storedBytes)}: ${money(c.stored, c.currency, "per month")}`],
        ["First fill", `${bytes(c.fillBytes)} read: ${money(c.fill, c.currency)}`],
        ["Changes", `${bytes(c.monthlyBytes)} read per month: ${money(c.monthly, c.currency)}. Content that is fetched on first use is extra.`],
        ...(c.currency ? [] : [["Prices", "Enter them in the cloud account, under Servers."] as [string, string]]),
      ]}
    />
  );
}

function Places({ plan }: { plan: ReplicaPlan }) {
  const count = (c: { files: number; bytes: number }) => <>{c.files.toLocaleString("en")}<span className="block text-sm text-soft">{bytes(c.bytes)}</span></>;
  return (
    <Grid heads={["Replica", "Holds", "Same as the seed", "Differs", "Not at the seed", "Missing", "Free"]}>
      {plan.places.map((p, i) => (
        <tr key={p.replica} className="border-b border-line align-baseline">
          <th scope="row" className="py-1.5 pr-4 pl-1 text-left font-normal"><span className="font-medium">{p.replica}</span>{p.seed && <span className="text-soft"> seed</span>}<span className="block font-mono text-sm text-soft">{plan.asked.replicas[i] && target(plan.asked.replicas[i])}{!p.there && ", is made"}</span></th>
          {[count(p.content), ...(p.seed ? ["", "", "", ""] : [count(p.equal), count(p.differ), count(p.extra), count(p.missing)]), bytes(p.free)].map((cell, k) => <td key={k} className="py-1.5 pr-4 text-right">{cell}</td>)}
        </tr>
      ))}
    </Grid>
  );
}

const lag = (s: number) => (s < 90 ? `${s} s` : s < 5400 ? `${Math.round(s / 60)} min` : `${(s / 3600).toFixed(1)} h`);

/** How far behind a replica will be, when it is filled. */
const behind = (l: ReplicaPlan["layouts"][number], f: ReplicaPlan["layouts"][number]["fills"][number]) =>
  l.endless ? ["then ever further behind"] : f.p95S > 0 ? [`then half within ${lag(f.medianS)},`, `95% within ${lag(f.p95S)}`] : ["then within a second"];

function Layouts({ plan }: { plan: ReplicaPlan }) {
  return (
    <Grid heads={["Layout", "Lanes", "Filled", ...plan.places.filter((p) => !p.seed).map((p) => p.replica), "Fullest lane"]}>
      {plan.layouts.map((l) => {
        const fullest = [...l.lanes].sort((a, b) => b.weekly / Math.max(1, b.fits) - a.weekly / Math.max(1, a.fits))[0];
        return (
          <tr key={l.layout} className={`border-b border-line align-baseline ${l.asked ? "bg-wash" : ""}`}>
            <th scope="row" className="py-1.5 pr-4 pl-1 text-left font-medium whitespace-nowrap">{l.layout}{l.asked && <span className="font-normal text-soft"> asked for</span>}</th>
            <td className="py-1.5 pr-4 text-right">{l.lanes.length}</td>
            <td className="py-1.5 pr-4 text-right whitespace-nowrap">{l.filled ? when(l.filled).slice(0, 16) : <Status tone="bad">never</Status>}</td>
            {l.fills.map((f) => (
              <td key={f.replica} className="py-1.5 pr-4 text-right whitespace-nowrap">
                {f.end ? <>{when(f.end).slice(5, 16)}<span className="block text-sm text-soft">{bytes(f.bytes)} from {f.from}</span>{behind(l, f).map((line) => <span key={line} className="block text-sm text-soft">{line}</span>)}</> : <Status tone="bad">never</Status>}
              </td>
            ))}
            <td className="w-64 py-1.5 pr-1">
              {fullest && <><SpanStrip compact from={fullest.from} to={fullest.to} deck={fullest.weekly > fullest.fits ? "failing" : "open"} mbit={fullest.mbit} label={`${fullest.from} to ${fullest.to}`} /><span className="block text-right text-sm text-soft">{bytes(fullest.weekly)} of {bytes(fullest.fits)} a week</span></>}
            </td>
          </tr>
        );
      })}
    </Grid>
  );
}

/** What each layout brings over each leg: in the first fill, and in a week afterwards. */
function Legs({ plan }: { plan: ReplicaPlan }) {
  const names = [...new Set(plan.layouts.flatMap((l) => l.legs.map(legName)))];
  return (
    <Grid heads={["Layout", ...names]}>
      {plan.layouts.map((l) => (
        <tr key={l.layout} className={`border-b border-line align-baseline ${l.asked ? "bg-wash" : ""}`}>
          <th scope="row" className="py-1.5 pr-4 pl-1 text-left font-medium whitespace-nowrap">{l.layout}{l.asked && <span className="font-normal text-soft"> asked for</span>}</th>
          {names.map((name) => {
            const over = l.legs.find((o) => legName(o) === name);
            return <td key={name} className="py-1.5 pr-4 text-right">{over ? <>{bytes(over.first)} at first<span className="block text-sm text-soft">then {bytes(over.weekly)} a week</span></> : "nothing"}</td>;
          })}
        </tr>
      ))}
    </Grid>
  );
}

const legName = (leg: { from: string; to: string }) => [leg.from, leg.to].sort().join(" – ");

function Grid({ heads, children }: { heads: string[]; children: React.ReactNode }) {
  return (
    <div className="overflow-x-auto" tabIndex={0} role="group" aria-label={heads[0]}>
      <table className="w-full border-collapse">
        <thead><tr className="border-y border-ink">{heads.map((h, i) => <th key={h} scope="col" className={`py-1 pr-4 font-medium ${i === 0 ? "pl-1 text-left" : "text-right"}`}>{h}</th>)}</tr></thead>
        <tbody>{children}</tbody>
      </table>
    </div>
  );
}
