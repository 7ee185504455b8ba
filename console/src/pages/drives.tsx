// Drives and mount points for people: made for one person or group at a site,
// handed out as a file, and made anew when what they lead to changed.
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api, got, Problem, type Schemas } from "../api/client";
import { useHandouts, useSites } from "../api/queries";
import { Status } from "../components/status";
import { Button, Dialog, Empty, Field, Loading, Section, Select, sentence, TextField, Trouble } from "../components/ui";
import { plural, when } from "../format";

type Ask = Schemas["AskMappings"];
type Made = Schemas["Mappings"];

const formats: { value: Ask["format"]; label: string; file: string }[] = [
  { value: "batch", label: "Windows batch file", file: "drives.cmd" },
  { value: "powershell", label: "PowerShell script", file: "drives.ps1" },
  { value: "autofs", label: "autofs map", file: "auto.bridgespan" },
  { value: "fstab", label: "Lines for fstab", file: "fstab.bridgespan" },
  { value: "csv", label: "CSV", file: "drives.csv" },
];

export function Drives({ namespace }: { namespace: string }) {
  const query = useHandouts(namespace);
  const [asking, setAsking] = useState<{ for: string; from: string }>();
  const list = query.data ?? [];
  return (
    <Section title="Drives for people" aside={<Button look="quiet" onClick={() => setAsking({ for: "", from: "" })}>Make drives …</Button>}>
      {query.isPending && <Loading what="what was handed out" />}
      {query.error && <Trouble error={query.error} retry={() => void query.refetch()} />}
      {query.data && list.length === 0 && <Empty>No drives were handed out yet. They are made for a person or a group, as a script or a map for their machines.</Empty>}
      <ul className={list.length > 0 ? "border-t border-line" : ""}>
        {list.map((h) => (
          <li key={`${h.for}@${h.from ?? ""}`} className="grid grid-cols-[minmax(0,1fr)_minmax(0,2fr)_max-content] items-baseline gap-x-4 border-b border-line py-1">
            <span className="min-w-0"><span className="font-medium break-words">{h.for}</span>{h.from && <span className="text-soft"> at {h.from}</span>}<span className="block text-sm text-soft">{when(h.at)}, by {h.who}</span></span>
            <span className="min-w-0">
              {h.trouble ? <Status tone="warn">{h.trouble}</Status> : h.changes.length === 0 ? <Status tone="good">nothing changed since</Status> : <Status tone="warn">{plural(h.changes.length, "change")} since</Status>}
              {h.changes.slice(0, 5).map((c) => <span key={c} className="block text-sm break-words text-soft">{c}</span>)}
              {h.changes.length > 5 && <span className="block text-sm text-soft">and {h.changes.length - 5} more</span>}
            </span>
            <Button look="quiet" aria-label={`Make anew for ${h.for}${h.from ? ` at ${h.from}` : ""}`} onClick={() => setAsking({ for: h.for, from: h.from ?? "" })}>Make anew</Button>
          </li>
        ))}
      </ul>
      <Dialog open={asking !== undefined} onOpenChange={() => setAsking(undefined)} title="Drives for people" lead={`What somebody sees of /${namespace}, as drives and mount points: through the front at their site, or straight to the servers where there is none.`}>
        {asking && <MakeDrives namespace={namespace} begin={asking} onClose={() => setAsking(undefined)} />}
      </Dialog>
    </Section>
  );
}

function MakeDrives({ namespace, begin, onClose }: { namespace: string; begin: { for: string; from: string }; onClose: () => void }) {
  const sites = useSites();
  const queries = useQueryClient();
  const [whom, setWhom] = useState(begin.for);
  const [from, setFrom] = useState(begin.from);
  const [format, setFormat] = useState<Ask["format"]>("batch");
  const make = useMutation({
    mutationFn: (handOut: boolean): Promise<Made> => {
      const ask = { for: whom.trim(), from: from || undefined, format };
      return handOut
        ? got(api.POST("/api/v1/namespaces/{namespace}/mappings", { params: { path: { namespace } }, body: ask }))
        : got(api.GET("/api/v1/namespaces/{namespace}/mappings", { params: { path: { namespace }, query: ask } }));
    },
    onSuccess: (made, handOut) => {
      if (!handOut) return;
      save(made.text, formats.find((f) => f.value === format)?.file ?? "drives.txt");
      void queries.invalidateQueries({ queryKey: ["namespace", namespace] });
    },
  });
  const again = <T,>(set: (value: T) => void) => (value: T) => {
    make.reset();
    set(value);
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    make.mutate(false);
  };
  const problem = make.error instanceof Problem ? make.error : undefined;
  const error = (field: string) => problem?.fields[field] && problem.fields[field] + (problem.remedy ? `: ${problem.remedy}` : "");
  return (
    <form onSubmit={submit} className="grid gap-4" noValidate>
      <div className="grid grid-cols-2 gap-4">
        <TextField label="For" value={whom} onChange={(e) => again(setWhom)(e.target.value)} placeholder="a person or group" error={error("for") ?? error("as")} autoFocus />
        <Field label="At" error={error("from")}>{(props) => <Select {...props} value={from || anywhere} onChange={(s) => again(setFrom)(s === anywhere ? "" : s)} options={[anywhere, ...(sites.data ?? []).map((s) => s.name)].map((name) => ({ value: name, label: name }))} />}</Field>
      </div>
      <Field label="As">{(props) => <Select {...props} value={format} onChange={(f) => again(setFormat)(f as Ask["format"])} options={formats} />}</Field>
      {make.error && !error("for") && !error("as") && !error("from") && <Trouble error={make.error} />}
      {make.data && <Outcome made={make.data} handedOut={make.variables === true} />}
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Close</Button>
        <Button type="submit" look={make.data ? "plain" : "main"} disabled={make.isPending || whom.trim() === ""}>{make.isPending ? "Asking the servers …" : "Show"}</Button>
        {make.data && make.variables === false && make.data.mappings.length > 0 && <Button look="main" disabled={make.isPending} onClick={() => make.mutate(true)}>Hand out</Button>}
      </div>
    </form>
  );
}

const anywhere = "(anywhere)";

function Outcome({ made: m, handedOut }: { made: Made; handedOut: boolean }) {
  return (
    <div className="grid gap-3" role="status">
      {handedOut && <p className="font-medium">The file was saved by your browser. What was handed out is kept, so that changes since can be told.</p>}
      {m.mappings.length === 0 && <p>There is nothing in this namespace that {m.for} may open.</p>}
      {m.mappings.length > 0 && (
        <table className="w-full border-collapse">
          <thead><tr className="border-y border-ink text-left"><th scope="col" className="py-1 font-medium">Drive</th><th scope="col" className="py-1 pl-3 font-medium">Path</th><th scope="col" className="py-1 pl-3 font-medium">Leads to</th></tr></thead>
          <tbody>
            {m.mappings.map((d) => (
              <tr key={d.path} className="border-b border-line align-baseline">
                <td className="py-0.5">{d.letter ? `${d.letter}:` : "none free"}</td>
                <td className="py-0.5 pl-3"><code className="break-all">{d.path}</code></td>
                <td className="py-0.5 pl-3"><code className="break-all">{[d.host, d.share, d.sub].filter(Boolean).join("/")}</code>{d.port && <span className="block text-sm text-warn">port {d.port}: Windows cannot go there</span>}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {m.through && <p>They lead through the front <code>{m.through}</code>: they stay right when a server behind a signpost changes. Where each leads without it stands in the file.</p>}
      {m.closed.map((c) => <p key={c} className="text-soft">{sentence(`left out: ${c}`)}</p>)}
      {m.last && !handedOut && <p>{m.changes.length === 0 ? `Nothing changed since ${when(m.last)}, when they were last handed out.` : sentence(`${plural(m.changes.length, "change")} since ${when(m.last)}: ${m.changes.join("; ")}`)}</p>}
      <details>
        <summary className="cursor-pointer text-span">The file</summary>
        <pre className="mt-1 max-h-56 overflow-auto border border-line p-2 text-sm" tabIndex={0} aria-label="The file">{m.text}</pre>
      </details>
    </div>
  );
}

/** Lets the browser save a text as a file. */
function save(text: string, name: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type: "text/plain;charset=utf-8" }));
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}
