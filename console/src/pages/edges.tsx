// The contents of the edges of a cloud set: what each keeps whole, by which policy, and where the content of a path is.
import { useMutation, useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { api, got, type Replica, type ReplicaSet, type Schemas } from "../api/client";
import { Meter } from "../components/figures";
import { WhatFollows } from "../components/preview";
import { Status, type Tone } from "../components/status";
import { DataTable, type Column } from "../components/table";
import { Button, Field, Section, Select, TextField, Trouble } from "../components/ui";
import { bytes, fromGiB, inGiB, plural, when } from "../format";

export type Policy = Schemas["EdgePolicy"];
type Place = Schemas["PlaceOfContent"];

/** Whether a set is a cloud set: a hub whose middle is a bucket. */
export const isCloudSet = (set: ReplicaSet) => set.layout === "hub" && Boolean(set.replicas[0]?.swept);

export const fills: { value: Policy["fill"]; label: string }[] = [
  { value: "names", label: "Names first, then contents up to the free-space line" },
  { value: "stubs", label: "Names; contents on first use" },
  { value: "whole", label: "Whole files" },
];

export const hasStubs = (p?: Policy) => Boolean(p && p.fill !== "whole");

/** What a replica of a cloud set holds, in a cell of a table. */
export function Contents({ replica: r }: { replica: Replica }) {
  if (r.swept) return <>everything</>;
  if (!hasStubs(r.edge)) return <>whole files</>;
  const f = r.edgeFigures;
  if (!f) return <span className="text-soft">not counted yet</span>;
  const used = f.total > 0 ? (f.total - f.free) / f.total : 0;
  return (
    <span className="block min-w-44">
      <span title={bytes(f.wholeBytes)}>{plural(f.whole, "file")} here</span>, <span title={bytes(f.stubBytes)}>{f.stubs.toLocaleString("en")} in the bucket only</span>
      <Meter label={`Volume of ${r.name}`} share={used} warn={f.free < f.line} />
      <span className="block text-sm text-soft">{bytes(f.free)} free{f.line > 0 && `, ${bytes(f.line)} to stay free`}</span>
      {f.fillsOn === "open" && <span className="block text-sm text-soft">A stub is filled completely when a program opens it.</span>}
      {f.trouble && <Status tone="bad"><span className="whitespace-normal">{f.trouble}</span></Status>}
      {!f.trouble && f.short ? <Status tone="warn">{bytes(f.short)} are lacking to the line</Status> : null}
    </span>
  );
}

/** The state of the fields of a policy; given is the one to begin with. */
export function usePolicy(given: Policy | undefined) {
  const was: Policy = given ?? { fill: "whole" };
  const [fill, setFill] = useState(was.fill);
  const [free, setFree] = useState(String(was.freePercent ?? 0));
  const [unused, setUnused] = useState(was.unusedDays ? String(was.unusedDays) : "");
  const [newest, setNewest] = useState(inGiB(was.keepNewest ?? 0));
  const [never, setNever] = useState((was.never ?? []).join(", "));
  const [prefetch, setPrefetch] = useState((was.prefetch?.folders ?? []).join(", "));
  const [hours, setHours] = useState(was.prefetch?.hours ?? "");
  const [refused, setRefused] = useState((was.refused ?? []).join(", "));
  const list = (text: string) => text.split(",").map((p) => p.trim()).filter(Boolean);
  const stubs = fill !== "whole";
  const policy: Policy = { fill, freePercent: stubs ? Number(free) : 0, unusedDays: stubs ? Number(unused) : 0, keepNewest: fromGiB(newest), never: list(never), refused: list(refused), waitS: was.waitS, prefetch: stubs && list(prefetch).length > 0 ? { folders: list(prefetch), hours: hours.trim() || undefined } : undefined };
  return { was, policy, fill, setFill, free, setFree, unused, setUnused, newest, setNewest, never, setNever, prefetch, setPrefetch, hours, setHours, refused, setRefused };
}

/** The fields of a policy, and what follows from it. */
export function PolicyFields({ set, replica: r, state: s, errors }: { set: ReplicaSet; replica: Replica; state: ReturnType<typeof usePolicy>; errors: Record<string, string> }) {
  return (
    <>
      <Field label="Files here" error={errors["edge.fill"]}>{(props) => <Select {...props} value={s.fill} onChange={(v) => s.setFill(v as Policy["fill"])} options={fills} />}</Field>
      <PolicyInputs state={s} errors={errors} />
      <WhatFollows set={set.name} change={{ replica: { name: r.name, change: { edge: s.policy } } }} asItIs={{ replica: { name: r.name, change: { edge: s.was } } }} />
    </>
  );
}

/** The fields of a policy with stubs, without how the edge is filled. */
export function PolicyInputs({ state: s, errors }: { state: ReturnType<typeof usePolicy>; errors: Record<string, string> }) {
  return (
    <>
      {s.fill !== "whole" && (
        <>
          <TextField label="Free-space line, in percent of the volume" inputMode="numeric" value={s.free} onChange={(e) => s.setFree(e.target.value)} error={errors["edge.freePercent"]} help="When less is free, files become stubs, the longest unused first. 0 for no line." />
          <TextField label="Days without use" inputMode="numeric" value={s.unused} onChange={(e) => s.setUnused(e.target.value)} error={errors["edge.unusedDays"]} help="Files that nobody has used for so long become stubs. Empty for none." />
          <TextField label="Newest files, in GiB" inputMode="decimal" value={s.newest} onChange={(e) => s.setNewest(e.target.value)} error={errors["edge.keepNewest"]} help="So much of the files changed last stays whole. Empty for none." />
          <TextField label="Files that stay whole" mono value={s.never} onChange={(e) => s.setNever(e.target.value)} error={errors["edge.never"]} help="Patterns such as *.accdb or ledgers/, with commas between." />
          <TextField label="Prefetch" mono value={s.prefetch} onChange={(e) => s.setPrefetch(e.target.value)} error={errors["edge.prefetch"]} help="Changes made elsewhere to files of these patterns, such as drawings/ or *, come with their contents at once. Empty for none. Costs shows how much of it was used." />
          {s.prefetch.trim() && <TextField label="Prefetch hours" mono value={s.hours} onChange={(e) => s.setHours(e.target.value)} error={errors["edge.prefetchHours"]} help="Rules such as off; mon-fri 7-19 full. Empty for always." />}
          <TextField label="Programs without access to stubs" mono value={s.refused} onChange={(e) => s.setRefused(e.target.value)} error={errors["edge.refused"]} help="Names of programs on that host, such as nightly-backup, with commas between. They get an error when they read a stub, and nothing is fetched for them." />
        </>
      )}
    </>
  );
}

const words: Record<Place["content"], [Tone, string]> = { whole: ["good", "here"], stub: ["none", "in the bucket only"], folder: ["none", "folder"], nowhere: ["none", "nothing"], unknown: ["warn", "unknown"] };

/** Where the content of a path is, with buttons to fetch it and to make a stub of it. */
export function WhereIs({ set }: { set: ReplicaSet }) {
  const [text, setText] = useState("");
  const [path, setPath] = useState("");
  const [moved, setMoved] = useState(false); // contents are on their way
  const query = useQuery({ queryKey: ["where", set.name, path], staleTime: 0, enabled: path !== "", retry: false, refetchInterval: moved ? 2000 : false, queryFn: async () => (await got(api.GET("/api/v1/replica-sets/{set}/where", { params: { path: { set: set.name }, query: { path } } }))).places });
  const move = useMutation({ mutationFn: (body: Schemas["MoveContents"]) => got(api.POST("/api/v1/replica-sets/{set}/contents", { params: { path: { set: set.name } }, body })), onSuccess: () => setMoved(true) });
  const { mutate } = move;
  const columns = useMemo<Column<Place>[]>(
    () => [
      { head: "Place", by: (p) => p.replica, cell: (p) => <><span className="font-medium">{p.replica}</span>{p.bucket && <span className="text-soft"> bucket</span>}</> },
      { head: "Content", by: (p) => p.content, cell: (p) => <><Status tone={words[p.content][0]}>{words[p.content][1]}</Status>{p.problem && <span className="block text-soft">{p.problem}</span>}</> },
      { head: "Version", by: (p) => String(p.current), cell: (p) => (p.content === "whole" || p.content === "stub" ? (p.current ? "current" : "another one") : "") },
      { head: "Size", right: true, by: (p) => p.size, cell: (p) => (p.content === "whole" || p.content === "stub" ? bytes(p.size) : "") },
      { head: "Changed", right: true, by: (p) => p.modified ?? "", cell: (p) => (p.modified ? when(p.modified) : "") },
      {
        head: "Actions",
        cell: (p) => {
          const edge = set.replicas.find((r) => r.name === p.replica);
          if (!edge || !hasStubs(edge.edge)) return null;
          if (p.content === "stub" || p.content === "folder") return <Button look="quiet" onClick={() => mutate({ edge: p.replica, path })}>Fetch</Button>;
          return p.content === "whole" ? <Button look="quiet" onClick={() => mutate({ edge: p.replica, path, offload: true })}>Make a stub</Button> : null;
        },
      },
    ],
    [set, path, mutate],
  );
  return (
    <Section title="File location">
      <form className="mb-3 flex flex-wrap items-end gap-3" onSubmit={(e) => { e.preventDefault(); move.reset(); setMoved(false); if (text.trim() === path) void query.refetch(); else setPath(text.trim()); }}>
        <div className="min-w-80 flex-1"><TextField label="Path within the set" mono value={text} onChange={(e) => setText(e.target.value)} /></div>
        <Button type="submit" disabled={!text.trim()}>Find</Button>
      </form>
      {move.error && <Trouble error={move.error} />}
      {move.data && <p className="mb-3 text-soft" role="status">{move.data.offload ? `${plural(move.data.files, "file")} become stubs at ${move.data.edge}.` : `${plural(move.data.files, "file")} (${bytes(move.data.bytes)}) are fetched to ${move.data.edge}.`}</p>}
      {path && (query.error ? <Trouble error={query.error} /> : <DataTable what="places" query={query} columns={columns} keyOf={(p) => p.replica} empty="It is nowhere." />)}
    </Section>
  );
}
