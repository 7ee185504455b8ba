// What an estimate is asked for: which shares, what is in them, and what would be
// deduplicated.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Estimate, type EstimatedVolume, type Policy } from "../api/client";
import { useServers, useShares } from "../api/queries";
import { SaveForm } from "./form";
import { Check, Field, Select, TextArea, TextField, Trouble } from "./ui";
import { FindingLines } from "./findinglines";
import { CalendarField } from "./week";
import { bytes } from "../format";

export const profiles = [
  { value: "documents", label: "documents: chunks of 32 KiB, cut by content" },
  { value: "disk-images", label: "disk images: blocks of 32 KiB" },
  { value: "backups", label: "backups: chunks of 64 KiB, cut by content" },
];

const priorities = [
  { value: "low", label: "low: one file at a time" },
  { value: "normal", label: "normal: two files at a time" },
  { value: "high", label: "high: four files at a time" },
];

/** A policy as it is typed. */
export type Typed = { days: string; smallest: string; leaveOut: string };

export const typed = (p: Policy | undefined): Typed => ({ days: p?.minDays ? String(p.minDays) : "", smallest: p?.smallest ? String(p.smallest / 1024) : "", leaveOut: (p?.leaveOut ?? []).join("\n") });

export const policyOf = (t: Typed): Policy => ({
  minDays: Number(t.days) || undefined,
  smallest: t.smallest ? Math.round(Number(t.smallest) * 1024) : undefined,
  leaveOut: t.leaveOut.split("\n").map((l) => l.trim()).filter(Boolean),
});

export function PolicyFields({ value, onChange, errors = {} }: { value: Typed; onChange: (t: Typed) => void; errors?: Record<string, string> }) {
  const under = Object.entries(errors).find(([name]) => name.startsWith("policy.leaveOut"))?.[1];
  return (
    <div className="grid gap-4 sm:grid-cols-2">
      <TextField label="Least age, in days" type="number" min={0} value={value.days} onChange={(e) => onChange({ ...value, days: e.target.value })} error={errors["policy.minDays"]} help="Since the last change. Files change most in their first days." />
      <TextField label="Least size, in KiB" type="number" min={0} value={value.smallest} onChange={(e) => onChange({ ...value, smallest: e.target.value })} error={errors["policy.smallest"]} help="Small files save little, and cost as much to keep track of." />
      <div className="sm:col-span-2">
        <TextArea label="Left out" help="One to a line: a kind of file such as *.mdb, a folder such as cache/, or a path such as /scans/raw/." error={under} value={value.leaveOut} onChange={(e) => onChange({ ...value, leaveOut: e.target.value })} />
      </div>
    </div>
  );
}

/** How chunks are counted that do not fit into memory. */
export type Way = "sample" | "exact" | "anyway";

export const wayOf = (w: Way) => ({ exact: w !== "sample" || undefined, anyway: w === "anyway" || undefined });

const ways = [
  { value: "sample", label: "a sample, with an interval" },
  { value: "exact", label: "all of them, in sorted files of the work folder" },
  { value: "anyway", label: "all of them, also if that lies on the volume" },
];

export function CountingFields({ value, onChange, error }: { value: Way; onChange: (w: Way) => void; error?: string }) {
  return (
    <Field label="Of chunks that do not fit into memory, count" error={error} help="Memory holds the chunks of some 100 GB that are all different. Sorted files take time, and 1.4 GB for each TB that is counted.">
      {(props) => <Select {...props} value={value} onChange={(w) => onChange(w as Way)} options={ways} />}
    </Field>
  );
}

type Body = Parameters<typeof begin>[0];

const begin = (body: { name?: string; places?: { server: string; share: string }[]; profile?: "documents" | "disk-images" | "backups"; policy?: Policy; priority?: "low" | "normal" | "high"; compress?: "sample" | "all"; paceMbit?: number; exact?: boolean; anyway?: boolean; calendar?: string }) =>
  got(api.POST("/api/v1/dedup/estimates", { body }));

/** Asks for an estimate: of a new volume, or again of one that is given. */
export type Place = { server: string; share: string };

export function EstimateForm({ volume, policy, places = [], onBegun, onCancel }: { volume?: EstimatedVolume; policy?: Policy; places?: Place[]; onBegun: (e: Estimate) => void; onCancel: () => void }) {
  const [server, setServer] = useState(places[0]?.server ?? "");
  const [shares, setShares] = useState<string[]>(places.map((p) => p.share));
  const [name, setName] = useState("");
  const [profile, setProfile] = useState<string>(volume?.profile ?? "documents");
  const [priority, setPriority] = useState("normal");
  const [pace, setPace] = useState("");
  const [calendar, setCalendar] = useState("full");
  const [all, setAll] = useState(false);
  const [rules, setRules] = useState(typed(policy));
  const [way, setWay] = useState<Way>("sample");
  let begun: Estimate | undefined;
  const save = async () => {
    const body: Body = { profile: profile as Body["profile"], policy: policyOf(rules), priority: priority as Body["priority"], paceMbit: Number(pace) || undefined, calendar: calendar === "full" ? undefined : calendar, ...wayOf(way) };
    if (volume) body.name = volume.name;
    else Object.assign(body, { name: name || undefined, places: shares.map((share) => ({ server, share })), compress: all ? "all" : undefined });
    begun = await begin(body);
  };
  return (
    <SaveForm action="Begin" busy="Asking the server …" save={save} onDone={() => begun && onBegun(begun)} onCancel={onCancel} fields={["name", "places", "places[0].share", "policy.minDays", "policy.smallest", "policy.leaveOut[0]", "paceMbit", "exact", "calendar"]}>
      {(errors) => (
        <>
          {!volume && <Shares server={server} onServer={(s) => { setServer(s); setShares([]); }} shares={shares} onShares={setShares} error={Object.entries(errors).find(([f]) => f.startsWith("places"))?.[1]} />}
          {!volume && <TextField label="Name of the volume" value={name} onChange={(e) => setName(e.target.value)} error={errors.name} help="Under which the estimate is kept; the names of the shares when it is empty." />}
          <Field label="What is in it">{(props) => <Select {...props} value={profile} onChange={setProfile} options={profiles} />}</Field>
          <Look name={volume?.name} places={volume ? undefined : shares.map((share) => ({ server, share }))} profile={profile as Body["profile"]} />
          <PolicyFields value={rules} onChange={setRules} errors={errors} />
          <div className="grid gap-4 sm:grid-cols-2">
            <Field label="Priority">{(props) => <Select {...props} value={priority} onChange={setPriority} options={priorities} />}</Field>
            <TextField label="Pace, in Mbit/s" type="number" min={0} value={pace} onChange={(e) => setPace(e.target.value)} error={errors.paceMbit} help="To read at most; empty for no bound." />
          </div>
          <details>
            <summary className="cursor-pointer font-medium">Hours in which it may read: {calendar === "full" ? "always" : calendar}</summary>
            <div className="mt-2"><CalendarField label="Hours in which it may read" value={calendar} onChange={setCalendar} /></div>
          </details>
          {errors.calendar && <p className="text-bad">{errors.calendar}</p>}
          <CountingFields value={way} onChange={setWay} error={errors.exact} />
          {!volume && <Check label="Compress all chunks, however large the volume is: exact, and slower; else one in 16 beyond 256 GiB" checked={all} onChange={setAll} />}
          <p className="text-sm text-soft">The volume is read, and never written to.</p>
        </>
      )}
    </SaveForm>
  );
}

/** What speaks against an estimate, before it is begun. */
function Look({ name, places, profile }: { name?: string; places?: Place[]; profile: Body["profile"] }) {
  const look = useQuery({
    queryKey: ["look", name, places, profile],
    enabled: name !== undefined || (places ?? []).length > 0,
    placeholderData: keepPreviousData,
    queryFn: () => got(api.POST("/api/v1/dedup/look", { body: { name, places, profile } })),
  });
  if (look.error) return <Trouble error={look.error} />;
  if (!look.data) return look.isFetching ? <p className="text-soft">Looking at the storage …</p> : null;
  const g = look.data.grounds[0];
  return (
    <div>
      {g && <p className="mb-1 text-soft">The storage under it holds {bytes(g.capacityBytes - g.freeBytes)}; {bytes(g.freeBytes)} of {bytes(g.capacityBytes)} are free{g.fileSystem && `, on ${g.fileSystem}`}{g.storage && `, on ${g.storage} storage`}.</p>}
      <FindingLines list={look.data.warnings} />
      {look.data.grounds.some((p) => !p.storage) && <p className="mt-1 text-sm text-soft">Neither SMB nor the server’s registry tells what kind of storage it is: see at the server that it is neither removable nor mounted read-only.</p>}
      <p className="mt-1 text-sm text-soft">Profile {look.data.volume.profile}: {look.data.profileWhy}.</p>
    </div>
  );
}

function Shares({ server, onServer, shares, onShares, error }: { server: string; onServer: (s: string) => void; shares: string[]; onShares: (s: string[]) => void; error?: string }) {
  const servers = useServers();
  const list = useShares(server);
  const disks = server ? (list.data ?? []).filter((h) => h.server === server && h.kind === "disk" && !h.hidden) : [];
  return (
    <>
      <Field label="Server" error={server ? undefined : error}>{(props) => <Select {...props} value={server} onChange={onServer} placeholder="Choose a server" options={(servers.data ?? []).map((s) => ({ value: s.name, label: s.name }))} />}</Field>
      {server && (
        <Field label="Shares of one volume" error={error} help="Those that lie on one storage: what they have in common is kept once.">
          {(props) => (
            <div {...props} role="group" className="grid gap-1 sm:grid-cols-2">
              {disks.map((h) => <Check key={h.name} label={h.name} checked={shares.includes(h.name)} onChange={(on) => onShares(on ? [...shares, h.name] : shares.filter((s) => s !== h.name))} />)}
              {disks.length === 0 && <p className="text-soft">No shares of it were seen yet.</p>}
            </div>
          )}
        </Field>
      )}
    </>
  );
}
