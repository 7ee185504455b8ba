// What the steps of the set-up of a cloud set need: a form for each.
import { useState } from "react";
import type { CloudSetup, Schemas } from "../api/client";
import { useAccountMaps, useServers, useShares } from "../api/queries";
import { Check, Field, Loading, Select, TextField, TextInput } from "../components/ui";
import { CalendarField } from "../components/week";
import { fromGiB, inGiB, target } from "../format";
import { fills, PolicyInputs, usePolicy, type Policy } from "./edges";
import { keysIn, SealingFields, whatOf, type Sealing } from "./sealing";
import { StepForm, type StepProps } from "./setupform";

type Edge = Schemas["DraftEdge"];

const listOf = (text: string) => text.split(",").map((p) => p.trim()).filter(Boolean);
const same = (a: string, b: string) => a.toLowerCase() === b.toLowerCase();

/** What an edge is called among others. */
const placeName = (e: Edge) => (e.share ? target({ server: e.server, share: e.share, sub: e.sub }) : e.server);

export function AccountStep(props: StepProps) {
  const servers = useServers();
  const [account, setAccount] = useState(props.setup.account ?? "");
  const clouds = (servers.data ?? []).filter((v) => v.kind === "cloud");
  return (
    <StepForm {...props} change={() => ({ account })} fields={["account"]}>
      {(errors) => (
        <Field label="Cloud account" error={errors.account} help="Accounts are added on the page of the servers, with their access key, region and prices.">
          {(field) => <Select {...field} value={account} onChange={setAccount} placeholder={servers.data && clouds.length === 0 ? "There is none yet" : "Choose an account"} options={clouds.map((v) => ({ value: v.name, label: `${v.name}: ${v.cloud?.region ?? ""} at ${v.address}` }))} />}
        </Field>
      )}
    </StepForm>
  );
}

export function BucketStep(props: StepProps) {
  const s = props.setup;
  const shares = useShares(s.account);
  const [bucket, setBucket] = useState(s.bucket ?? "");
  const [folder, setFolder] = useState(s.folder ?? "");
  const [quota, setQuota] = useState(inGiB(s.quota ?? 0));
  const [sealing, setSealing] = useState<Sealing>({ what: whatOf(s.sealing), keys: s.sealing?.recoveryKeys.join("\n") ?? "" });
  const known = (shares.data ?? []).filter((h) => same(h.server, s.account ?? "")).map((h) => h.name);
  return (
    <StepForm {...props} change={() => ({ bucket: bucket.trim(), folder: folder.trim(), quota: fromGiB(quota), sealing: { what: sealing.what, recoveryKeys: keysIn(sealing.keys) } })} fields={["bucket", "folder", "quota", "sealing.recoveryKeys"]}>
      {(errors) => (
        <>
          <TextField label="Bucket" mono list="buckets" autoComplete="off" value={bucket} onChange={(e) => setBucket(e.target.value)} error={errors.bucket} help={known.length > 0 ? `Buckets of ${s.account ?? ""}: ${known.join(", ")}. A new name can be entered, too.` : "Enter a new name: 3 to 63 small letters, digits and hyphens."} />
          <datalist id="buckets">{known.map((name) => <option key={name} value={name} />)}</datalist>
          <TextField label="Folder in the bucket" mono value={folder} placeholder="all of it" onChange={(e) => setFolder(e.target.value)} error={errors.folder} />
          <SealingFields value={sealing} onChange={setSealing} errors={errors} />
          <TextField label="Quota, in GiB" inputMode="decimal" value={quota} placeholder="no limit" onChange={(e) => setQuota(e.target.value)} error={errors.quota} help="What the provider lets the account store. Object services do not report it; the plan compares the data with it." />
        </>
      )}
    </StepForm>
  );
}

export function MoversStep(props: StepProps) {
  const servers = useServers();
  const [edges, setEdges] = useState<Edge[]>(props.setup.edges ?? []);
  const has = (name: string) => edges.some((e) => same(e.server, name));
  const choose = (name: string, on: boolean) => setEdges(on ? [...edges, { server: name }] : edges.filter((e) => !same(e.server, name)));
  if (!servers.data) return <Loading what="the servers" />;
  return (
    <StepForm {...props} change={() => ({ edges })} fields={["edges"]}>
      {() => (
        <fieldset className="grid gap-2">
          <legend className="mb-1 font-medium">Servers that hold edges</legend>
          {servers.data.filter((v) => v.kind !== "cloud").map((v) => (
            <Check key={v.name} label={`${v.name}, ${v.site}`} help={v.kind === "mover" ? `Host with a mover${v.beside ? `, beside the file server ${v.beside}` : ""}: can hold stubs` : "File server: keeps whole files"} checked={has(v.name)} onChange={(on) => choose(v.name, on)} />
          ))}
        </fieldset>
      )}
    </StepForm>
  );
}

export function SettingsStep(props: StepProps) {
  const s = props.setup;
  const maps = useAccountMaps();
  const [note, setNote] = useState(s.note ?? "");
  const [permissions, setPermissions] = useState(s.permissions ?? "carry");
  const [map, setMap] = useState(s.accountMap ?? "");
  const [calendar, setCalendar] = useState(s.calendar ?? "full");
  const [out, setOut] = useState((s.filter?.leaveOut ?? []).join(", "));
  const [days, setDays] = useState(s.atticDays ? String(s.atticDays) : "");
  const [limit, setLimit] = useState(s.removalLimit === undefined ? "" : String(s.removalLimit));
  const change = () => ({ note, permissions, accountMap: permissions === "map" ? map : "", calendar, filter: { ...s.filter, leaveOut: listOf(out) }, atticDays: Number(days) || 0, ...(limit === "" ? {} : { removalLimit: Number(limit) }) });
  return (
    <StepForm {...props} change={change} fields={["note", "permissions", "accountMap", "calendar", "filter.leaveOut", "atticDays", "removalLimit"]}>
      {(errors) => (
        <>
          <Field label="Permissions" error={errors.permissions}>{(field) => <Select {...field} value={permissions} onChange={(v) => setPermissions(v as typeof permissions)} options={[{ value: "carry", label: "The same everywhere" }, { value: "map", label: "Through an account map" }, { value: "leave", label: "Each replica has its own" }]} />}</Field>
          {permissions === "map" && <Field label="Account map" error={errors.accountMap}>{(field) => <Select {...field} value={map} onChange={setMap} options={(maps.data ?? []).map((m) => ({ value: m.name, label: m.name }))} placeholder="Choose a map" />}</Field>}
          <CalendarField label="Calendar" value={calendar} onChange={setCalendar} error={errors.calendar} />
          <TextField label="Left out" mono value={out} onChange={(e) => setOut(e.target.value)} error={errors["filter.leaveOut"]} help="Patterns such as *.tmp or cache/, with commas between. These files stay where they are." />
          <TextField label="Attics keep things for, in days" inputMode="numeric" value={days} placeholder="60" onChange={(e) => setDays(e.target.value)} error={errors.atticDays} />
          <TextField label="Removal limit, in percent" inputMode="numeric" value={limit} placeholder="25" onChange={(e) => setLimit(e.target.value)} error={errors.removalLimit} help="When more of a replica is removed within an hour, the removals are pending until somebody decides. 0 for no limit." />
          <TextField label="Note" value={note} onChange={(e) => setNote(e.target.value)} error={errors.note} />
        </>
      )}
    </StepForm>
  );
}

export function EdgesStep(props: StepProps) {
  const shares = useShares();
  const [edges, setEdges] = useState<Edge[]>(props.setup.edges ?? []);
  const put = (i: number, change: Partial<Edge>) => setEdges(edges.map((e, k) => (k === i ? { ...e, ...change } : e)));
  const seed = (i: number) => setEdges(edges.map((e, k) => ({ ...e, seed: k === i || undefined })));
  return (
    <StepForm {...props} change={() => ({ edges })} fields={edges.flatMap((_, i) => [`edges[${i}].share`, `edges[${i}].sub`, `edges[${i}].seed`, `edges[${i}].intakeQuota`])}>
      {(errors) => (
        <>
          {edges.map((e, i) => (
            <fieldset key={i} className="grid grid-cols-[1fr_1fr_8rem_auto] items-start gap-3">
              <legend className="mb-1 font-medium">{e.server}</legend>
              <Field label={`Share of ${e.server}`} error={errors[`edges[${i}].share`]}>{(field) => <Select {...field} value={e.share ?? ""} onChange={(share) => put(i, { share })} placeholder="Choose a share" options={(shares.data ?? []).filter((h) => same(h.server, e.server) && h.kind === "disk" && !h.hidden).map((h) => ({ value: h.name, label: h.name }))} />}</Field>
              <Field label={`Folder of ${e.server}`} error={errors[`edges[${i}].sub`]}>{(field) => <TextInput {...field} className="font-mono" value={e.sub ?? ""} placeholder="all of it" onChange={(v) => put(i, { sub: v.target.value })} />}</Field>
              <Field label="Intake, GiB" error={errors[`edges[${i}].intakeQuota`]}>{(field) => <TextInput {...field} aria-label={`Intake of ${e.server}, in GiB`} inputMode="decimal" defaultValue={inGiB(e.intakeQuota ?? 0)} placeholder="worked out" onChange={(v) => put(i, { intakeQuota: fromGiB(v.target.value) })} />}</Field>
              <label className="mt-7 flex h-9 items-center gap-1.5"><input type="radio" name="seed" className="accent-(--span)" checked={Boolean(e.seed)} onChange={() => seed(i)} />seed</label>
              {onSystem(props.setup, e) && <span className="col-span-4"><Check label={`Accept the volume of the operating system at ${e.server}`} checked={Boolean(e.systemVolume)} onChange={(systemVolume) => put(i, { systemVolume })} /></span>}
            </fieldset>
          ))}
          <label className="flex items-center gap-1.5"><input type="radio" name="seed" className="accent-(--span)" checked={!edges.some((e) => e.seed)} onChange={() => seed(-1)} />The bucket is the seed</label>
          <p className="text-sm text-soft">The content of the seed wins the first fill. A missing folder is created. The intake bounds what may be on its way in at a time; the plan works it out from the largest files.</p>
        </>
      )}
    </StepForm>
  );
}

/** Whether an edge is known to be on the volume of the operating system. */
const onSystem = (s: CloudSetup, e: Edge) =>
  Boolean(e.systemVolume) || s.steps.some((step) => step.checks.some((f) => f.code === "volume" && f.severity !== "pass" && same(f.subject ?? "", e.server)));

export function PoliciesStep(props: StepProps) {
  const servers = useServers();
  const [edges, setEdges] = useState<Edge[]>(props.setup.edges ?? []);
  if (!servers.data) return <Loading what="the servers" />;
  const moves = (e: Edge) => servers.data.some((v) => same(v.name, e.server) && v.kind === "mover");
  const put = (i: number, policy: Policy | undefined) => setEdges((all) => all.map((e, k) => (k === i ? { ...e, policy } : e)));
  return (
    <StepForm {...props} change={() => ({ edges })} fields={edges.flatMap((_, i) => ["freePercent", "unusedDays", "keepNewest", "never", "prefetch", "prefetchHours", "refused"].map((f) => `edges[${i}].policy.${f}`))}>
      {(errors) => edges.map((e, i) => <EdgePolicy key={i} edge={e} moves={moves(e)} errors={ofEdge(errors, i)} onChange={(p) => put(i, p)} />)}
    </StepForm>
  );
}

/** The errors of an edge, as the fields of a policy know them. */
const ofEdge = (errors: Record<string, string>, i: number) =>
  Object.fromEntries(Object.entries(errors).map(([name, text]) => [name.replace(`edges[${i}].policy.`, "edge."), text]));

function EdgePolicy({ edge: e, moves, errors, onChange }: { edge: Edge; moves: boolean; errors: Record<string, string>; onChange: (p: Policy | undefined) => void }) {
  const state = usePolicy(e.policy ?? { fill: "names", freePercent: 20 });
  const stubs = Boolean(e.policy && e.policy.fill !== "whole");
  const text = JSON.stringify(state.policy);
  const [told, setTold] = useState(text);
  if (stubs && text !== told) {
    setTold(text);
    onChange(state.policy);
  }
  return (
    <fieldset className="grid gap-3 border-l border-line pl-3">
      <legend className="font-medium">{placeName(e)}</legend>
      {!moves && <p className="text-soft">Without a mover, all files stay whole.</p>}
      {moves && <Check label={`Files may become stubs at ${e.server}`} help="Their content is then in the bucket only, and comes when somebody uses it." checked={stubs} onChange={(on) => onChange(on ? { ...state.policy, fill: "names" } : undefined)} />}
      {moves && stubs && <PolicyInputs state={state} errors={errors} />}
    </fieldset>
  );
}

export function FillStep(props: StepProps) {
  const [edges, setEdges] = useState<Edge[]>(props.setup.edges ?? []);
  const put = (i: number, fill: Policy["fill"]) => setEdges(edges.map((e, k) => (k === i && e.policy ? { ...e, policy: { ...e.policy, fill } } : e)));
  return (
    <StepForm {...props} change={() => ({ edges })} fields={edges.map((_, i) => `edges[${i}].policy.fill`)}>
      {(errors) =>
        edges.map((e, i) => (
          <Field key={i} label={placeName(e)} error={errors[`edges[${i}].policy.fill`]}>
            {(field) => (e.policy ? <Select {...field} value={e.policy.fill} onChange={(v) => put(i, v as Policy["fill"])} options={fills} /> : <span {...field} className="text-soft">{e.seed ? "Its files are uploaded to the bucket." : "Whole files"}</span>)}
          </Field>
        ))
      }
    </StepForm>
  );
}
