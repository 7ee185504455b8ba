// Making and changing a share: what is asked, the rehearsal, and then the deed.
import { useMutation } from "@tanstack/react-query";
import { useState, type FormEvent, type ReactNode } from "react";
import { useNavigate } from "react-router";
import { api, got, Problem, type Schemas, type ShareNow, type SharePlan } from "../api/client";
import { FindingLines } from "../components/findinglines";
import { useToast } from "../components/toast";
import { Button, Check, Field, Select, sentence, TextArea, TextField, Trouble } from "../components/ui";

type Grant = Schemas["ShareGrant"];
type Settings = Omit<Schemas["EditShare"], "rehearse" | "$schema">;

const offline = [
  { value: "by-hand", label: "those that people choose" },
  { value: "documents", label: "what people open" },
  { value: "programs", label: "what people open, programs too" },
  { value: "never", label: "never" },
];

const levels: Grant["level"][] = ["full", "change", "read", "none"];

export function ShareForm({ server, share, onClose }: { server: string; share?: ShareNow; onClose: () => void }) {
  const [name, setName] = useState(share?.name ?? "");
  const [path, setPath] = useState(share?.path ?? "");
  const [note, setNote] = useState(share?.note ?? "");
  const [access, setAccess] = useState(share ? share.access.map((g) => `${g.account}=${g.level}`).join("\n") : "Everyone=full");
  const [hide, setHide] = useState(share?.hideUnreadable ?? false);
  const [encrypt, setEncrypt] = useState(share?.encrypt ?? false);
  const [readOnly, setReadOnly] = useState(false);
  const [copies, setCopies] = useState<string>(share?.offline ?? "by-hand");
  const tell = useToast();
  const navigate = useNavigate();
  const send = useMutation({
    mutationFn: (rehearse: boolean): Promise<SharePlan> => {
      const settings: Settings = { note, access: grants(access), hideUnreadable: hide, encrypt, readOnly, offline: copies as Settings["offline"] };
      if (share) return got(api.PATCH("/api/v1/servers/{server}/shares/{share}", { params: { path: { server, share: share.name } }, body: { ...settings, rehearse } }));
      return got(api.POST("/api/v1/servers/{server}/shares", { params: { path: { server } }, body: { ...settings, name, path, rehearse } }));
    },
    onSuccess: (plan, rehearse) => {
      if (rehearse) return;
      tell(share ? `${plan.name} was changed.` : `${plan.name} was created.`);
      onClose();
      if (!share) void navigate(`/servers/${encodeURIComponent(server)}/shares/${encodeURIComponent(plan.name)}`);
    },
  });
  const problem = send.error instanceof Problem ? send.error : undefined;
  const known = ["name", "path", "access", "note"];
  const error = (field: string) => problem?.fields[field] && problem.fields[field] + (problem.remedy ? `: ${problem.remedy}` : "");
  const submit = (event: FormEvent) => {
    event.preventDefault();
    send.mutate(true);
  };
  const changed = <T,>(set: (value: T) => void) => (value: T) => {
    send.reset();
    set(value);
  };
  const ready = send.data?.rehearsed && !send.data.advice.some((a) => a.severity === "fail");
  return (
    <form onSubmit={submit} className="grid gap-4" noValidate>
      {!share && <TextField label="Name" value={name} onChange={(e) => changed(setName)(e.target.value)} error={error("name")} help="What people will see and type." />}
      {!share && <TextField label="Folder" mono value={path} onChange={(e) => changed(setPath)(e.target.value)} error={error("path")} help="As the server writes paths, such as C:\data\loans; or SHARE:FOLDER for a folder of another share. It is made when it is missing." />}
      <TextField label="Note" value={note} onChange={(e) => changed(setNote)(e.target.value)} error={error("note")} />
      <TextArea label="Who may come through, and how far" help="One to a line: ACCOUNT=full, change, read or none. The files' own permissions still apply." error={error("access")} value={access} onChange={(e) => changed(setAccess)(e.target.value)} />
      <Check label="Hide entries that a person cannot open" checked={hide} onChange={changed(setHide)} />
      <Check label="Demand encrypted connections" checked={encrypt} onChange={changed(setEncrypt)} />
      <Check label="Let nobody more than read through" checked={readOnly} onChange={changed(setReadOnly)} />
      <Field label="Copies that clients may keep for when the server is away">{(props) => <Select {...props} value={copies} onChange={changed(setCopies)} options={offline} />}</Field>
      {send.error && !known.some((f) => problem?.fields[f]) && <Trouble error={send.error} />}
      {send.data && <Plan plan={send.data} />}
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Cancel</Button>
        <Button type="submit" look={ready ? "plain" : "main"} disabled={send.isPending}>{send.isPending ? "Working …" : "Rehearse"}</Button>
        {ready && <Button look="main" disabled={send.isPending} onClick={() => send.mutate(false)}>{share ? "Change the share" : "Create the share"}</Button>}
      </div>
    </form>
  );
}

/** Reads ACCOUNT=LEVEL lines; what is not a level is left for the service to refuse. */
function grants(text: string): Grant[] {
  return text
    .split("\n")
    .map((line) => line.trim())
    .filter(Boolean)
    .map((line) => {
      const at = line.lastIndexOf("=");
      const level = levels.find((l) => l === line.slice(at + 1).trim().toLowerCase());
      return at < 0 ? { account: line, level: "read" } : { account: line.slice(0, at).trim(), level: level ?? (line.slice(at + 1) as Grant["level"]) };
    });
}

/** What making, changing or removing a share does. */
export function Plan({ plan }: { plan: SharePlan }) {
  return (
    <div className="grid gap-3 border-t border-ink pt-3" role="status">
      {plan.advice.length > 0 && <FindingLines list={plan.advice} />}
      <Part title={plan.rehearsed ? "What would be done" : "What was done"}>
        {plan.steps.length === 0 ? <p>Nothing: it is so already.</p> : <ol className="list-decimal pl-5">{plan.steps.map((s) => <li key={s.text}>{s.text}</li>)}</ol>}
      </Part>
      {plan.folder && <Part title={plan.newFolder ? "The new folder gets" : "The folder has"}><p>{plan.folder.sentence}</p></Part>}
      {plan.share && <Part title="The share"><p>{plan.share.sentence}</p></Part>}
      {plan.effective.length > 0 && (
        <Part title="So in the end">
          <ul>{plan.effective.map((e) => <li key={e.account.sid} className="flex justify-between gap-4 border-b border-line"><span>{e.account.name}</span><span>{e.level === "special" ? e.words.join(", ") : e.level}</span></li>)}</ul>
        </Part>
      )}
      {plan.connected.map((who) => <p key={who} className="text-warn">{sentence(who)}</p>)}
    </div>
  );
}

const Part = ({ title, children }: { title: string; children: ReactNode }) => (
  <div>
    <h3 className="font-medium">{title}</h3>
    {children}
  </div>
);
