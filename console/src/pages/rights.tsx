// Who may do what with one file or folder, why, and how to change that.
import { useMutation } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { useNavigate } from "react-router";
import { api, got, Problem, type Comparison, type EffectiveRights, type Permissions, type RightsChange, type Schemas } from "../api/client";
import { useComparison, useRights, useRightsAs, useRightsChange } from "../api/queries";
import { FindingLines } from "../components/findinglines";
import { ended, RunProgress } from "../components/run";
import { levelText } from "../components/level";
import { ShiftText } from "../components/shift";
import { Status } from "../components/status";
import { Button, Check, Dialog, Field, Loading, Section, Select, sentence, TextField, Trouble } from "../components/ui";
import { plural } from "../format";
import { AskWhoCan } from "./whocan";

export function RightsPanel({ path, as, onUp }: { path: string; as: string; onUp?: () => void }) {
  const query = useRights(path);
  const [changing, setChanging] = useState(false);
  if (query.isPending) return <Loading what="permissions" />;
  if (!query.data) return <Trouble error={query.error} retry={() => void query.refetch()} />;
  const r = query.data;
  return (
    <aside aria-label="Rights" className="min-w-0 border-l border-line pl-6">
      <div className="mb-2 flex items-baseline justify-between gap-3">
        <h2 className="min-w-0 text-lg font-semibold break-words">Rights to {r.place.path ? <code>{r.place.path.split("/").pop()}</code> : "the whole share"}</h2>
        {onUp && <button className="text-span whitespace-nowrap underline underline-offset-2" onClick={onUp}>the folder’s</button>}
      </div>
      <p className="mb-3">{r.file.sentence}</p>
      <div className="mb-5"><Button onClick={() => setChanging(true)}>Change rights …</Button></div>
      <WhatCan key={as} path={path} as={as} />
      <AskWhoCan path={path} />
      <Compare path={path} />
      {r.findings.length > 0 && <Section title="Findings"><FindingLines list={r.findings} /></Section>}
      <Section title="Entries" aside={<>owner {r.file.owner?.name ?? "nobody"}</>}>
        <Entries permissions={r.file} />
      </Section>
      <Section title="In the end" aside="files and share together">
        <ul className="border-t border-line">
          {r.people.map((p) => (
            <li key={p.account.sid} className="grid grid-cols-[minmax(0,1fr)_max-content] gap-3 border-b border-line py-0.5">
              <span className="min-w-0 break-words">{p.account.name}</span>
              <span className="font-medium">{levelText(p)}{p.level !== p.file && <span className="font-normal text-soft"> (files {p.file}, share {p.share})</span>}</span>
            </li>
          ))}
        </ul>
      </Section>
      <Dialog open={changing} onOpenChange={setChanging} title="Change rights" lead={<code className="break-all">{path}</code>}>
        <ChangeForm path={path} onClose={() => setChanging(false)} />
      </Dialog>
    </aside>
  );
}

/** Who gains and who loses between here and another place? */
function Compare({ path }: { path: string }) {
  const [typed, setTyped] = useState("");
  const [other, setOther] = useState("");
  const query = useComparison(path, other);
  const navigate = useNavigate();
  const deep = useMutation({
    mutationFn: () => got(api.POST("/api/v1/rights/comparisons", { body: { first: path, second: typed.trim() } })),
    onSuccess: (c) => c.run && void navigate(`/runs/${c.run.id}`),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    deep.reset();
    setOther(typed.trim());
  };
  const error = deep.error ?? query.error;
  return (
    <Section title="Compare with another place">
      <form onSubmit={submit} className="grid gap-2">
        <TextField label="Path" mono value={typed} onChange={(e) => setTyped(e.target.value)} placeholder="heather/herbarium" error={error instanceof Problem ? error.detail : undefined} />
        <div className="flex gap-2">
          <Button type="submit" disabled={typed.trim() === ""}>Compare these two</Button>
          <Button disabled={deep.isPending || typed.trim() === ""} onClick={() => deep.mutate()}>{deep.isPending ? "Comparing …" : "And everything below"}</Button>
        </div>
      </form>
      <div aria-live="polite" className="mt-2">
        {other && query.isPending && query.isFetching && <Loading what="both places" />}
        {query.data && <TheTwo comparison={query.data} />}
      </div>
    </Section>
  );
}

/** What differs between two places alone. */
function TheTwo({ comparison: c }: { comparison: Comparison }) {
  const shifts = c.differences[0]?.shifts ?? [];
  if (c.share.length + c.differ === 0) return <p>Nobody gains and nobody loses: the two have the same permissions.</p>;
  return (
    <>
      <p>There, as against here:</p>
      <ul className="border-t border-line">
        {c.share.map((s) => <li key={`share${s.account.sid}`} className="border-b border-line py-0.5">through the share: <ShiftText shift={s} /></li>)}
        {shifts.map((s) => <li key={s.account.sid} className="border-b border-line py-0.5"><ShiftText shift={s} /></li>)}
        {c.differ > 0 && shifts.length === 0 && <li className="border-b border-line py-0.5">the text differs, not what it grants</li>}
      </ul>
    </>
  );
}

/** The list of entries: what was set here stands out, what came from above says from where. */
function Entries({ permissions: p }: { permissions: Permissions }) {
  if (p.noList) return <Status tone="bad">There is no list: everybody may do everything.</Status>;
  return (
    <ol className="border-t border-line">
      {p.entries.map((e, i) => (
        <li key={i} className={`grid grid-cols-[1.5rem_minmax(0,1fr)_max-content] gap-x-2 border-b border-line py-1 ${e.inherited ? "text-soft" : "border-l-4 border-l-span bg-wash pl-2"}`}>
          <span className="text-right">{i + 1}</span>
          <span className="min-w-0 break-words">
            <span className={e.inherited ? "" : "font-semibold"}>{e.account.name}</span>
            <span className="block text-sm">{e.inherited ? <>from {e.from ? <code>{e.from}</code> : "above"}</> : "set here"}{e.scope && `, ${scopes[e.scope]}`}</span>
          </span>
          <span className="text-right">{e.allow ? "" : "deny "}{e.level === "special" ? <span title={e.words.join(", ")}>special {e.mask}</span> : e.level}</span>
        </li>
      ))}
    </ol>
  );
}

const scopes: Record<string, string> = { everything: "for everything below", this: "for this alone", folders: "for folders", files: "for the files below", below: "for what is below", "one-level": "for one level" };

/** What can this person do here, and why? */
function WhatCan({ path, as }: { path: string; as: string }) {
  const [typed, setTyped] = useState(as);
  const [asked, setAsked] = useState(as);
  const query = useRightsAs(path, asked);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    setAsked(typed.trim());
  };
  return (
    <Section title="What can this person do here?">
      <form onSubmit={submit} className="flex items-end gap-2">
        <div className="grow"><TextField label="Account" value={typed} onChange={(e) => setTyped(e.target.value)} placeholder="ivy.marsh, or a group" error={query.error instanceof Problem ? `${query.error.detail}${query.error.remedy ? `: ${query.error.remedy}` : ""}` : undefined} /></div>
        <Button type="submit">Ask</Button>
      </form>
      <div aria-live="polite" className="mt-2">
        {asked && query.isFetching && !query.data && <Loading what="groups" />}
        {query.data && <Answer rights={query.data} />}
      </div>
    </Section>
  );
}

function Answer({ rights: e }: { rights: EffectiveRights }) {
  return (
    <>
      <p><span className="font-semibold">{e.account.name}</span> {e.level === "none" ? "may do nothing here" : <>has <span className="font-semibold">{levelText(e)}</span> here</>}{e.level !== e.file && <span className="text-soft"> (files {e.file}, share {e.share})</span>}.</p>
      <ul className="mt-1 border-t border-line">
        {(e.reasons ?? []).map((r, i) => (
          <li key={i} className="flex gap-2 border-b border-line py-0.5">
            <span className="shrink-0"><Status tone={r.granted ? "good" : "held"}>{r.granted ? "yes" : "no"}</Status></span>
            <span className="min-w-0 break-words">{sentence(r.text)}</span>
          </li>
        ))}
      </ul>
      {!e.complete && <p className="mt-1 text-warn">{sentence(`not complete: ${e.missing ?? ""}`)}</p>}
    </>
  );
}

type Ask = Schemas["ChangeRights"];

const actions = [
  { value: "grant", label: "Grant a level to an account" },
  { value: "deny", label: "Deny a level to an account" },
  { value: "revoke", label: "Take away what an account was granted here" },
  { value: "own", label: "Make an account the owner" },
  { value: "protect", label: "Inherit nothing any more" },
  { value: "inherit", label: "Inherit from above again" },
  { value: "replace-below", label: "Make everything below inherit from here alone" },
];

const reaches = [
  { value: "everything", label: "this and everything below" },
  { value: "this", label: "this alone" },
  { value: "folders", label: "this folder and the folders below" },
  { value: "files", label: "the files below" },
  { value: "below", label: "everything below, and not this folder" },
  { value: "one-level", label: "this folder and what lies directly in it" },
];

function ChangeForm({ path, onClose }: { path: string; onClose: () => void }) {
  const [action, setAction] = useState("grant");
  const [account, setAccount] = useState("");
  const [grade, setGrade] = useState("read");
  const [scope, setScope] = useState("everything");
  const [below, setBelow] = useState(false);
  const [drop, setDrop] = useState(false);
  const [run, setRun] = useState<{ id: number; rehearsed: boolean }>();
  const needsAccount = ["grant", "deny", "revoke", "own"].includes(action);
  const needsLevel = action === "grant" || action === "deny";
  const send = useMutation({
    mutationFn: (rehearse: boolean): Promise<RightsChange> => {
      const body: Ask = { path, rehearse, action: (action === "deny" ? "grant" : action) as Ask["action"] };
      if (needsAccount) body.account = account;
      if (needsLevel) body.level = grade as Ask["level"];
      if (needsLevel) body.scope = scope as Ask["scope"];
      if (action === "deny") body.deny = true;
      if (action === "own") body.below = below;
      if (action === "protect") body.drop = drop;
      return got(api.POST("/api/v1/rights/changes", { body }));
    },
    onSuccess: (c, rehearse) => setRun({ id: c.run.id, rehearsed: rehearse }),
  });
  const undo = useMutation({
    mutationFn: (id: number): Promise<RightsChange> => got(api.POST("/api/v1/rights/changes/{run}/undo", { params: { path: { run: id } } })),
    onSuccess: (c) => setRun({ id: c.run.id, rehearsed: false }),
  });
  const shown = useRightsChange(run?.id);
  const problem = send.error instanceof Problem ? send.error : undefined;
  const again = <T,>(set: (value: T) => void) => (value: T) => {
    send.reset();
    setRun(undefined);
    set(value);
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    send.mutate(true);
  };
  const error = (field: string) => problem?.fields[field] && problem.fields[field] + (problem.remedy ? `: ${problem.remedy}` : "");
  return (
    <form onSubmit={submit} className="grid gap-4" noValidate>
      <Field label="What to do">{(props) => <Select {...props} value={action} onChange={again(setAction)} options={actions} />}</Field>
      {needsAccount && <TextField label="Account" value={account} onChange={(e) => again(setAccount)(e.target.value)} error={error("account")} help="Name, DOMAIN\name, or SID." />}
      {needsLevel && <Field label="Level" error={error("level")}>{(props) => <Select {...props} value={grade} onChange={again(setGrade)} options={["full", "change", "write", "read", "list"].map((l) => ({ value: l, label: l }))} />}</Field>}
      {needsLevel && <Field label="Applies to">{(props) => <Select {...props} value={scope} onChange={again(setScope)} options={reaches} />}</Field>}
      {action === "own" && <Check label="Of everything below as well" checked={below} onChange={again(setBelow)} />}
      {action === "protect" && <Check label="Drop what was inherited instead of keeping it" checked={drop} onChange={again(setDrop)} />}
      {send.error && !error("account") && !error("level") && <Trouble error={send.error} />}
      {undo.error && <Trouble error={undo.error} />}
      {shown.data && <Change change={shown.data} />}
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Close</Button>
        {shown.data?.canUndo && <Button disabled={undo.isPending} onClick={() => undo.mutate(shown.data.run.id)}>Undo</Button>}
        <Button type="submit" look={run?.rehearsed ? "plain" : "main"} disabled={send.isPending}>{send.isPending ? "Working …" : "Rehearse"}</Button>
        {run?.rehearsed && shown.data && shown.data.counts.planned > 0 && <Button look="main" disabled={send.isPending} onClick={() => send.mutate(false)}>Do it</Button>}
      </div>
    </form>
  );
}

/** What a change does: to how many objects, and for whom. */
function Change({ change: c }: { change: RightsChange }) {
  const n = c.counts.planned + c.counts.done + c.counts.failed + c.counts.undone;
  const what = c.asked.rehearse ? `${plural(n, "file or folder", "files and folders")} would change` : c.counts.undone > 0 ? `${c.counts.undone} of ${n} are as they were before` : `${c.counts.done} of ${n} changed`;
  return (
    <div className="grid gap-2 border-t border-ink pt-3" role="status">
      {!ended(c.run) && <RunProgress run={c.run} />}
      {c.run.state === "failed" && <p className="text-bad">{sentence(c.run.trouble ?? "")}</p>}
      {ended(c.run) && <p className="font-medium">{n === 0 ? "Nothing changes: the permissions are so already." : sentence(what)}</p>}
      {c.shifts.map((s) => (
        <p key={s.account.sid}><ShiftText shift={s} /></p>
      ))}
      {c.objects.length > 0 && (
        <details>
          <summary className="cursor-pointer text-span">Which files and folders</summary>
          <ul className="mt-1 max-h-48 overflow-auto border-t border-line" tabIndex={0} aria-label="Files and folders that change">
            {c.objects.map((o) => <li key={o.path} className="border-b border-line py-0.5"><code className="break-all">/{o.path}</code>{o.trouble && <span className="text-bad"> {o.trouble}</span>}</li>)}
          </ul>
        </details>
      )}
    </div>
  );
}
