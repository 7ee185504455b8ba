// The set-up of a cloud set: its steps in their order, with what each needs and what its checks found. It is stored by the service, so
// that it can be left and resumed.
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, etag, got, type CloudSetup, type Finding, type Schemas } from "../api/client";
import { useCloudSetup, useReplicaCreation, useReplicaPlan } from "../api/queries";
import { FindingLines } from "../components/findinglines";
import { SaveForm } from "../components/form";
import { setPage } from "../components/replica";
import { ended, RunProgress } from "../components/run";
import { Status, type Tone } from "../components/status";
import { Button, Dialog, Loading, PageHead, Section, sentence, Trouble } from "../components/ui";
import { when } from "../format";
import { Found, Made } from "./plan";
import { useCheck, type StepProps } from "./setupform";
import { AccountStep, BucketStep, EdgesStep, FillStep, MoversStep, PoliciesStep, SettingsStep } from "./setupsteps";

type Step = Schemas["SetupStep"];

const titles: Record<Step["step"], string> = {
  account: "Cloud account", bucket: "Bucket", movers: "Servers and movers", settings: "Settings", edges: "Edges", policies: "Policies", fill: "First fill", plan: "Plan", start: "Start",
};

const forms: Partial<Record<Step["step"], (props: StepProps) => React.ReactNode>> = { account: AccountStep, bucket: BucketStep, movers: MoversStep, settings: SettingsStep, edges: EdgesStep, policies: PoliciesStep, fill: FillStep };

const tones: Record<Step["state"], Tone> = { locked: "held", open: "none", passed: "good", failed: "bad" };

/** What the checks of a step found, by what they are about. */
function summary(step: Step): string {
  const found = new Map<string, string[]>();
  for (const f of step.checks.filter((c) => c.severity === "pass")) found.set(f.subject ?? "", [...(found.get(f.subject ?? "") ?? []), f.found]);
  return [...found].map(([subject, texts]) => `${subject && `${subject}: `}${texts.join(". ")}.`).join(" ");
}

const warned = (s: Step) => s.state === "passed" && s.checks.some((f) => f.severity === "warn");

export function SetupPage() {
  const { setup: name = "" } = useParams();
  const query = useCloudSetup(name);
  const navigate = useNavigate();
  const [discarding, setDiscarding] = useState(false);
  const s = query.data;
  const at = s?.steps.findIndex((step) => step.step === s.next) ?? -1;
  const next = s?.steps[at];
  return (
    <>
      <PageHead title={<>Set up {name}</>} verdict={next && <><Status tone={tones[next.state]}>{`Step ${at + 1} of ${s.steps.length}: ${titles[next.step]}.`}</Status>{s.checked && <span className="text-soft"> Last checked {when(s.checked)}.</span>}</>}>
        {s && <CheckAgain setup={s} />}
        {s && <Button onClick={() => setDiscarding(true)}>Discard …</Button>}
      </PageHead>
      {query.isPending && <Loading what="the set-up" />}
      {query.error && !s && <Trouble error={query.error} retry={() => void query.refetch()} />}
      {s && <Steps setup={s} />}
      <Dialog open={discarding} onOpenChange={setDiscarding} title={`Discard the set-up of ${name}?`} lead="Neither the bucket nor the folders are touched.">
        {s && <SaveForm action="Discard" danger done={`The set-up of ${name} was discarded.`} onDone={() => void navigate("/replicas")} onCancel={() => setDiscarding(false)} save={() => api.DELETE("/api/v1/cloud-setups/{setup}", { params: { path: { setup: s.name }, header: { "If-Match": etag(s.version) } } })} />}
      </Dialog>
    </>
  );
}

function CheckAgain({ setup: s }: { setup: CloudSetup }) {
  const check = useCheck(s.name);
  return (
    <>
      {check.error && <Trouble error={check.error} />}
      <Button disabled={check.isPending} onClick={() => check.mutate()}>{check.isPending ? "Checking …" : "Check again"}</Button>
    </>
  );
}

function Steps({ setup: s }: { setup: CloudSetup }) {
  const [changing, setChanging] = useState<Step["step"]>();
  const shown = changing ?? s.next;
  return (
    <ol className="max-w-5xl border-t border-line">
      {s.steps.map((step, i) => (
        <li key={step.step} className="border-b border-line py-3" aria-current={step.step === s.next ? "step" : undefined}>
          <div className="grid grid-cols-[15rem_6rem_minmax(0,1fr)_auto] items-baseline gap-x-4">
            <h2 className={`font-medium ${step.state === "locked" ? "text-soft" : ""}`}>{i + 1}. {titles[step.step]}</h2>
            <Status tone={warned(step) ? "warn" : tones[step.state]}>{step.state}</Status>
            <span className="text-sm text-soft">{step.state === "passed" && shown !== step.step && step.step !== "plan" && summary(step)}</span>
            {forms[step.step] && step.state !== "locked" && shown !== step.step ? <Button look="quiet" onClick={() => setChanging(step.step)} aria-label={`Change step ${i + 1}`}>Change</Button> : <span />}
          </div>
          <StepBody setup={s} step={step} shown={shown === step.step} onDone={() => setChanging(undefined)} />
        </li>
      ))}
    </ol>
  );
}

function StepBody({ setup: s, step, shown, onDone }: { setup: CloudSetup; step: Step; shown: boolean; onDone: () => void }) {
  if (step.state === "locked") return null;
  if (step.step === "plan") return <PlanStep setup={s} step={step} />;
  if (step.step === "start") return <StartStep setup={s} step={step} />;
  const Form = forms[step.step];
  const todo = step.state === "open" ? step.checks.filter((f) => f.severity === "warn") : [];
  const lines = step.checks.filter((f) => !todo.includes(f) && (shown || f.severity !== "pass"));
  if (!shown && lines.length + todo.length === 0) return null;
  return (
    <div className="mt-2 grid gap-4">
      <FindingLines list={lines} />
      {todo.map((f) => <ToDo key={f.code + (f.subject ?? "")} finding={f} setup={s} />)}
      {shown && Form && <Form key={`${step.step} ${s.version}`} setup={s} onDone={onDone} />}
    </div>
  );
}

/** What is still to be entered or done in a step. */
function ToDo({ finding: f, setup: s }: { finding: Finding; setup: CloudSetup }) {
  return (
    <div className="flex flex-wrap items-baseline gap-x-4 gap-y-2">
      <p>{f.subject && <span className="font-medium">{f.subject}: </span>}{sentence(f.found)} <span className="text-soft">To do: {f.remedy}.</span></p>
      {f.action?.do === "create-bucket" && <CreateBucket finding={f} setup={s} />}
    </div>
  );
}

function CreateBucket({ finding: f, setup: s }: { finding: Finding; setup: CloudSetup }) {
  const [server = "", name = ""] = f.action?.args ?? [];
  const check = useCheck(s.name);
  const create = useMutation({
    mutationFn: async () => {
      await got(api.POST("/api/v1/servers/{server}/shares", { params: { path: { server } }, body: { name, path: "" } }));
      await check.mutateAsync();
    },
  });
  return (
    <>
      <Button look="main" disabled={create.isPending} onClick={() => create.mutate()}>{create.isPending ? "Creating …" : "Create the bucket"}</Button>
      {create.error && <Trouble error={create.error} />}
    </>
  );
}

function PlanStep({ setup: s, step }: { setup: CloudSetup; step: Step }) {
  const queries = useQueryClient();
  const plan = useReplicaPlan(s.plan);
  const read = () => void queries.invalidateQueries({ queryKey: ["cloud-setup"] });
  const begin = useMutation({ mutationFn: () => got(api.POST("/api/v1/cloud-setups/{setup}/plan", { params: { path: { setup: s.name } } })), onSuccess: read });
  const over = plan.data && ended(plan.data.run);
  useEffect(() => {
    if (over) void queries.invalidateQueries({ queryKey: ["cloud-setup"] });
  }, [over, queries]);
  return (
    <div className="mt-2 grid gap-4">
      {step.state !== "open" && <FindingLines list={step.checks} />}
      {step.state === "open" && !s.plan && <p>These settings were not planned yet. <span className="text-soft">The plan scans all files. It changes nothing.</span></p>}
      {plan.data && !over && <RunProgress run={plan.data.run} />}
      {begin.error && <Trouble error={begin.error} />}
      {(!s.plan || over) && <p><Button look={step.state === "passed" ? "plain" : "main"} disabled={begin.isPending} onClick={() => begin.mutate()}>{s.plan ? "Plan again" : "Plan"}</Button></p>}
      {plan.data && over && <details><summary className="cursor-pointer text-span">The whole plan</summary><Found plan={plan.data} /></details>}
    </div>
  );
}

function StartStep({ setup: s, step }: { setup: CloudSetup; step: Step }) {
  const navigate = useNavigate();
  const [sure, setSure] = useState(false);
  const [run, setRun] = useState(s.start || undefined);
  const made = useReplicaCreation(run ?? s.start);
  const plan = useReplicaPlan(s.plan);
  const created = made.data?.run.state === "done";
  useEffect(() => {
    if (created) void navigate(setPage(s.name));
  }, [created, navigate, s.name]);
  const idle = !made.data || ended(made.data.run);
  return (
    <div className="mt-2 grid gap-4">
      {idle && step.state === "failed" && <FindingLines list={step.checks} />}
      {idle && <p><Button look="main" onClick={() => setSure(true)}>Start {s.name} …</Button></p>}
      {made.data && <Made creation={made.data} onLeave={() => undefined} />}
      <Dialog open={sure} onOpenChange={setSure} title={`Start ${s.name}?`} lead="The set is created, and its first fill begins.">
        <SaveForm action="Start" onDone={() => setSure(false)} onCancel={() => setSure(false)} save={async () => setRun((await got(api.POST("/api/v1/cloud-setups/{setup}/start", { params: { path: { setup: s.name } } }))).run.id)}>
          {() => <Section title="Steps"><ol className="list-decimal pl-6">{plan.data?.steps.map((text) => <li key={text}>{text}</li>)}</ol></Section>}
        </SaveForm>
      </Dialog>
    </div>
  );
}
