// The fronts of a namespace: shares of SMB servers in which people meet it in their own file browser.
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api, etag, got, Problem, type Front, type FrontPlan } from "../api/client";
import { useFrontConnections, useFronts, useServers } from "../api/queries";
import { FindingLines } from "../components/findinglines";
import { outcomeTone, Status, type Tone } from "../components/status";
import { StepList } from "../components/steps";
import { useToast } from "../components/toast";
import { Button, Check, Dialog, Empty, Facts, Field, Loading, Section, Select, TextField, Trouble } from "../components/ui";
import { ago, plural, when } from "../format";

const tones: Record<Front["state"], Tone> = { new: "none", current: "good", writing: "none", away: "bad", failing: "bad", leaving: "none" };

export const unc = (f: Front) => `\\\\${f.host}\\${f.share}`;

export function Fronts({ namespace }: { namespace: string }) {
  const query = useFronts(namespace);
  const [adding, setAdding] = useState(false);
  const [shown, setShown] = useState<string>();
  const list = query.data?.fronts ?? [];
  const chosen = list.find((f) => f.server + "/" + f.share === shown);
  return (
    <Section title="Fronts" aside={<Button look="quiet" onClick={() => setAdding(true)}>Add a front …</Button>}>
      {query.isPending && <Loading what="the fronts" />}
      {query.error && <Trouble error={query.error} retry={() => void query.refetch()} />}
      {query.data && list.length === 0 && <Empty>No fronts yet. A front is a share that shows the namespace: people open it in their own file browser and reach the right server for their site.</Empty>}
      <ul className={list.length > 0 ? "border-t border-line" : ""}>
        {list.map((f) => (
          <li key={`${f.server}/${f.share}`} className="grid grid-cols-[minmax(0,2fr)_minmax(0,3fr)_max-content] items-baseline gap-x-4 border-b border-line py-1.5">
            <span className="min-w-0"><code className="font-semibold break-all">{unc(f)}</code><span className="block text-sm text-soft">at {f.site}{f.branch && <>, shows <code>/{f.namespace}/{f.branch}</code></>}</span></span>
            <span className="min-w-0">
              <Status tone={tones[f.state]}>{f.state}{f.trouble && `: ${f.trouble}`}</Status>
              <span className="block text-sm text-soft">{plural(f.links, "signpost")}, {plural(f.folders, "folder")}; {f.written ? `last written ${ago(f.written)}` : "not written yet"}</span>
              <LastCheck front={f} />
            </span>
            <Button look="quiet" aria-label={`Look at ${unc(f)}`} onClick={() => setShown(`${f.server}/${f.share}`)}>Look …</Button>
          </li>
        ))}
      </ul>
      {list.length > 0 && <p className="mt-2 text-sm text-soft">{query.data?.keeping}</p>}
      <Dialog open={adding} onOpenChange={setAdding} title="Add a front" lead={`A share that shows /${namespace}: folders are folders, and each signpost is a link that clients follow to a server.`}>
        <AddFront namespace={namespace} onClose={() => setAdding(false)} />
      </Dialog>
      <Dialog open={chosen !== undefined} onOpenChange={() => setShown(undefined)} title={chosen ? unc(chosen) : ""}>
        {chosen && <OneFront front={chosen} onClose={() => setShown(undefined)} />}
      </Dialog>
    </Section>
  );
}

function LastCheck({ front: f }: { front: Front }) {
  const c = f.check;
  if (!c) return <span className="block text-sm text-soft">{f.checkAccount ? "not checked yet" : "no check account"}</span>;
  if (c.outcome === "pass") return <span className="block text-sm text-soft">last check {ago(c.at)}: passed</span>;
  return <Status tone={outcomeTone(c.outcome)}>{c.lines[0]?.found ?? "see its check"}</Status>;
}

function OneFront({ front: f, onClose }: { front: Front; onClose: () => void }) {
  const [doing, setDoing] = useState<"edit" | "remove">();
  const path = { server: f.server, share: f.share };
  const queries = useQueryClient();
  const check = useMutation({
    mutationFn: () => got(api.POST("/api/v1/fronts/{server}/{share}/check", { params: { path }, body: {} })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["front"] }),
  });
  const connected = useFrontConnections(f.server, f.share);
  if (doing === "remove") return <RemoveFront front={f} onClose={onClose} />;
  if (doing === "edit") return <EditFront front={f} onClose={() => setDoing(undefined)} />;
  const done = check.data ?? f.check;
  return (
    <div className="grid gap-4">
      <Facts
        facts={[
          ["State", <Status key="s" tone={tones[f.state]}>{f.state}{f.trouble && `: ${f.trouble}`}</Status>],
          ["Shows", <code key="n">/{[f.namespace, f.branch].filter(Boolean).join("/")}</code>],
          ["As seen from", f.site],
          ["Comment", f.comment || "none"],
          ["Content", `${plural(f.links, "signpost")}, ${plural(f.folders, "folder")}`],
          ["Last written", f.written ? when(f.written) : "not yet"],
          ["Last compared", f.caughtUp ? `${when(f.caughtUp)}, ${plural(f.caughtUpChanges, "difference")}` : "not yet"],
          ["Failing locations", f.leaveOutFailing ? "left out while another one is open" : "last in the list"],
          ["Connected", connected.error ? "unknown: the host does not answer" : !connected.data ? "…" : connected.data.length === 0 ? "nobody" : connected.data.slice(0, 8).map((c) => `${c.person ?? "somebody"} at ${c.machine}`).join(", ") + (connected.data.length > 8 ? ` and ${connected.data.length - 8} more` : "")],
          ["Check account", f.checkAccount ? [f.checkDomain, f.checkAccount].filter(Boolean).join("\\") : "none"],
        ]}
      />
      {f.leftOut && f.leftOut.length > 0 && <ul className="text-sm text-soft">{f.leftOut.map((l) => <li key={l.path}>Not shown: <code>{l.path}</code>: {l.why}</li>)}</ul>}
      {f.foreign && f.foreign.length > 0 && <p className="text-sm text-soft">Foreign items in its folder, left as they are: <code className="break-all">{f.foreign.join(", ")}</code></p>}
      {check.error && <Trouble error={check.error} />}
      {done && <div><h3 className="font-medium">Check of {when(done.at)}</h3><FindingLines about="paths" list={done.lines} /></div>}
      <div className="flex justify-end gap-2">
        <Button disabled={f.state === "leaving"} onClick={() => setDoing("remove")}>Remove …</Button>
        <Button disabled={f.state === "leaving"} onClick={() => setDoing("edit")}>Edit …</Button>
        <Button look="main" disabled={check.isPending} onClick={() => check.mutate()}>{check.isPending ? "Checking …" : "Check now"}</Button>
      </div>
    </div>
  );
}

function RemoveFront({ front: f, onClose }: { front: Front; onClose: () => void }) {
  const [forget, setForget] = useState(false);
  const tell = useToast();
  const remove = useMutation({
    mutationFn: (rehearse: boolean) => got(api.DELETE("/api/v1/fronts/{server}/{share}", { params: { path: { server: f.server, share: f.share }, query: { forget, rehearse }, header: { "If-Match": etag(f.version) } } })),
    onSuccess: (plan) => {
      if (plan.rehearsed) return;
      tell(forget ? `${f.server}/${f.share} is removed from Bridge Span.` : `${unc(f)} was removed.`);
      onClose();
    },
  });
  return (
    <div className="grid gap-4">
      <p>The links, the folders and the share that Bridge Span created are removed. Files at the locations and foreign items stay.</p>
      {f.state === "away" && <Check label="Remove from Bridge Span only" checked={forget} onChange={(on) => { remove.reset(); setForget(on); }} help="When the host is lost. The folder and the share stay there." />}
      {remove.error && <Trouble error={remove.error} />}
      {remove.data && <Plan plan={remove.data} />}
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Keep it</Button>
        <Button disabled={remove.isPending} onClick={() => remove.mutate(true)}>Rehearse</Button>
        <Button look="danger" disabled={remove.isPending} onClick={() => remove.mutate(false)}>Remove the front</Button>
      </div>
    </div>
  );
}

// Settings of a front that can be changed after it was added.
type Settings = { branch: string; comment: string; account: string; password: string; leaveOutFailing: boolean };

const settingNames = ["branch", "comment", "checkAs.password"];

function SettingFields({ v, set, error, kept }: { v: Settings; set: (change: Partial<Settings>) => void; error: (field: string) => string | undefined; kept?: boolean }) {
  const text = (name: "branch" | "comment" | "account" | "password") => (event: { target: { value: string } }) => set({ [name]: event.target.value });
  return (
    <>
      <div className="grid grid-cols-2 gap-4">
        <TextField label="Branch" mono value={v.branch} onChange={text("branch")} error={error("branch")} help="A folder of the namespace; empty: all of it" />
        <TextField label="Comment" value={v.comment} onChange={text("comment")} error={error("comment")} help="Text that people see beside the share" />
        <TextField label="Check account" value={v.account} onChange={text("account")} help="Account of a person, DOMAIN\NAME; empty: no check as a person" autoComplete="off" />
        <TextField label="Password" type="password" value={v.password} onChange={text("password")} error={error("checkAs.password")} help={kept ? "Empty: the one that is kept" : "Kept sealed, never shown again"} autoComplete="new-password" />
      </div>
      <Check label="Leave failing locations out while another one is open" checked={v.leaveOutFailing} onChange={(leaveOutFailing) => set({ leaveOutFailing })} help="Otherwise they are last in the list: clients try them when all others fail." />
    </>
  );
}

const accountOf = (text: string) => {
  const [domain = "", account = ""] = text.includes("\\") ? text.split("\\", 2) : ["", text];
  return { domain: domain || undefined, account };
};

// told splits an error into texts for fields, and the rest that belongs to no field.
function told(failed: Error | null, fields: string[]) {
  const problem = failed instanceof Problem ? failed : undefined;
  const error = (field: string) => problem?.fields[field] && problem.fields[field] + (problem.remedy ? `: ${problem.remedy}` : "");
  return { error, elsewhere: failed && !fields.some((f) => problem?.fields[f]) ? failed : undefined };
}

function EditFront({ front: f, onClose }: { front: Front; onClose: () => void }) {
  const before = { branch: f.branch ?? "", comment: f.comment ?? "", account: [f.checkDomain, f.checkAccount].filter(Boolean).join("\\"), password: "", leaveOutFailing: f.leaveOutFailing };
  const [v, setV] = useState<Settings>(before);
  const queries = useQueryClient();
  const send = useMutation({
    mutationFn: () =>
      got(api.PATCH("/api/v1/fronts/{server}/{share}", {
        params: { path: { server: f.server, share: f.share }, header: { "If-Match": etag(f.version) } },
        body: { branch: v.branch, comment: v.comment, leaveOutFailing: v.leaveOutFailing, checkAs: v.account !== before.account || v.password ? { ...accountOf(v.account), password: v.password } : undefined },
      })),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["front"] });
      onClose();
    },
  });
  const { error, elsewhere } = told(send.error, settingNames);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    send.mutate();
  };
  return (
    <form onSubmit={submit} className="grid gap-4" noValidate>
      <SettingFields v={v} set={(change) => { send.reset(); setV({ ...v, ...change }); }} error={error} kept={before.account !== "" && v.account === before.account} />
      {elsewhere && <Trouble error={elsewhere} />}
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Cancel</Button>
        <Button type="submit" look="main" disabled={send.isPending}>Save</Button>
      </div>
    </form>
  );
}

function AddFront({ namespace, onClose }: { namespace: string; onClose: () => void }) {
  const servers = useServers();
  const hosts = (servers.data ?? []).filter((v) => v.kind === "mover");
  const [v, setV] = useState({ server: "", share: namespace, branch: "", comment: "", account: "", password: "", leaveOutFailing: false });
  const tell = useToast();
  const send = useMutation({
    mutationFn: (rehearse: boolean): Promise<FrontPlan> =>
      got(api.POST("/api/v1/fronts", { body: { server: v.server, share: v.share, namespace, branch: v.branch || undefined, comment: v.comment || undefined, leaveOutFailing: v.leaveOutFailing, rehearse, checkAs: v.account ? { ...accountOf(v.account), password: v.password } : undefined } })),
    onSuccess: (plan) => {
      if (plan.rehearsed) return;
      tell(`People open ${unc(plan.front)}.`);
      onClose();
    },
  });
  const set = (change: Partial<typeof v>) => {
    send.reset();
    setV({ ...v, ...change });
  };
  const { error, elsewhere } = told(send.error, ["server", "share", ...settingNames]);
  const ready = send.data?.rehearsed && !send.data.checks.some((c) => c.severity === "fail");
  const submit = (event: FormEvent) => {
    event.preventDefault();
    send.mutate(true);
  };
  return (
    <form onSubmit={submit} className="grid gap-4" noValidate>
      <div className="grid grid-cols-2 gap-4">
        <Field label="Host" error={error("server")} help={hosts.length === 0 ? "Start a mover beside a file service, with --fronts and --file-service, and add it as a server." : "Where a mover runs beside a file service"}>
          {(props) => <Select {...props} value={v.server} onChange={(server) => set({ server })} placeholder="Choose" options={hosts.map((h) => ({ value: h.name, label: `${h.name} (${h.site})` }))} />}
        </Field>
        <TextField label="Share" value={v.share} onChange={(event) => set({ share: event.target.value })} error={error("share")} help="What people type after the host's name" />
      </div>
      <SettingFields v={v} set={set} error={error} />
      {elsewhere && <Trouble error={elsewhere} />}
      {send.data && <Plan plan={send.data} />}
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Cancel</Button>
        <Button type="submit" look={ready ? "plain" : "main"} disabled={send.isPending}>{send.isPending ? "Working …" : "Rehearse"}</Button>
        {ready && <Button look="main" disabled={send.isPending} onClick={() => send.mutate(false)}>Add the front</Button>}
      </div>
    </form>
  );
}

function Plan({ plan }: { plan: FrontPlan }) {
  return (
    <div className="grid gap-3 border-t border-ink pt-3" role="status">
      <FindingLines list={plan.checks} />
      <div><h3 className="font-medium">{plan.rehearsed ? "What would be done" : "What was done"}</h3><StepList steps={plan.steps} /></div>
      {plan.lines && plan.lines.length > 0 && (
        <div>
          <h3 className="font-medium">Lines that the configuration of the file service lacks</h3>
          <pre className="overflow-auto border-y border-line py-1 text-sm" tabIndex={0} aria-label="Lines">{plan.lines.join("\n")}</pre>
        </div>
      )}
    </div>
  );
}
