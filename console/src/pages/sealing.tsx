// Sealed folders: folders of buckets whose files are encrypted before they are sent, and the recovery keys that open them.
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, etag, got, type Schemas } from "../api/client";
import { useSealedFolders } from "../api/queries";
import { Consequences } from "../components/consequences";
import { SaveForm } from "../components/form";
import { DataTable, type Column } from "../components/table";
import { Button, Check, Dialog, Field, Section, Select, TextArea, TextField, Trouble } from "../components/ui";
import { ago, plural } from "../format";

type Folder = Schemas["SealedFolder"];
export type Sealing = { what: Schemas["DraftSealing"]["what"]; keys: string };

export const whatOf = (s?: { names?: boolean }): Sealing["what"] => (!s ? "nothing" : s.names ? "names" : "contents");
export const sealedWords: Record<Sealing["what"], string> = { nothing: "Nothing: plain files", contents: "Contents of files", names: "Contents and names of files" };
export const keysIn = (text: string) => text.split(/[\s,]+/).filter(Boolean);

/** What a set seals, and for which recovery keys. */
export function SealingFields({ value, onChange, errors }: { value: Sealing; onChange: (value: Sealing) => void; errors: Record<string, string> }) {
  return (
    <>
      <Field label="Sealing" error={errors.sealing} help={value.what === "nothing" ? "Whoever has the bucket can read the files, with any client." : "Files are encrypted before they are sent. They can be read with Bridge Span, or with a client of age and a recovery key, and with nothing else."}>
        {(field) => <Select {...field} value={value.what} onChange={(what) => onChange({ ...value, what: what as Sealing["what"] })} options={Object.entries(sealedWords).map(([value, label]) => ({ value, label }))} />}
      </Field>
      {value.what !== "nothing" && <RecoveryKeys keys={value.keys} onChange={(keys) => onChange({ ...value, keys })} error={errors["sealing.recoveryKeys"]} />}
    </>
  );
}

/** Public recovery keys, with a way to make one. */
function RecoveryKeys({ keys, onChange, error }: { keys: string; onChange: (keys: string) => void; error?: string }) {
  const make = useMutation({
    mutationFn: () => got(api.POST("/api/v1/recovery-keys")),
    onSuccess: (k) => {
      download(`recovery-key-${k.public.slice(4, 12)}.txt`, k.private);
      onChange([...keysIn(keys), k.public].join("\n"));
    },
  });
  return (
    <div>
      <TextArea label="Recovery keys" className="text-xs" value={keys} placeholder="age1…" onChange={(e) => onChange(e.target.value)} error={error} help="Public keys of age, one to a line. Without the private key of one of them, nobody can open the files when the records of Bridge Span are lost." />
      <div className="mt-2 flex items-baseline gap-3">
        <Button disabled={make.isPending} onClick={() => make.mutate()}>Make a recovery key</Button>
        {make.data && <span role="status" className="text-soft">Its private key is in the file that was downloaded. Keep it in a safe place, not beside the bucket; it is not shown again.</span>}
      </div>
      {make.error && <Trouble error={make.error} />}
    </div>
  );
}

function download(name: string, text: string) {
  const at = URL.createObjectURL(new Blob([text], { type: "text/plain" }));
  const link = document.createElement("a");
  link.href = at;
  link.download = name;
  link.click();
  URL.revokeObjectURL(at);
}

const folderName = (f: Folder) => f.bucket + (f.folder ? `/${f.folder}` : "");
const short = (key: string) => `${key.slice(0, 14)}…`;

/** The sealed folders of a cloud account. */
export function SealedFolders({ server }: { server: string }) {
  const query = useSealedFolders();
  const [editing, setEditing] = useState<Folder>();
  const [removing, setRemoving] = useState<Folder>();
  const [importing, setImporting] = useState(false);
  const columns: Column<Folder>[] = [
    { head: "Folder", by: folderName, cell: (f) => <code>{folderName(f)}</code> },
    { head: "Sealed", by: (f) => sealedWords[whatOf(f)], cell: (f) => sealedWords[whatOf(f)] },
    { head: "Set", by: (f) => f.set ?? "", cell: (f) => (f.set ? <Link className="text-span underline underline-offset-2" to={`/replicas/${encodeURIComponent(f.set)}`}>{f.set}</Link> : "none") },
    { head: "Recovery keys", wide: true, by: (f) => f.recoveryKeys.join(), cell: (f) => <span className="font-mono text-xs" title={f.recoveryKeys.join("\n")}>{f.recoveryKeys.map(short).join(", ")}</span> },
    { head: "Since", right: true, by: (f) => f.created, cell: (f) => <span className="whitespace-nowrap">{ago(f.created)}</span> },
    { head: "", cell: (f) => <span className="flex justify-end gap-2"><Button onClick={() => setEditing(f)}>Recovery keys …</Button>{!f.set && <Button onClick={() => setRemoving(f)}>Remove the key …</Button>}</span> },
  ];
  return (
    <Section title="Sealed folders" aside={<Button onClick={() => setImporting(true)}>Import a key …</Button>}>
      <DataTable what="sealed folders" query={{ ...query, data: query.data?.filter((f) => f.server === server) }} columns={columns} keyOf={(f) => f.recipient} empty="The files in these buckets are plain. A cloud set seals its files when that is chosen at its set-up." />
      <Dialog open={!!editing} onOpenChange={() => setEditing(undefined)} title={`Recovery keys of ${editing ? folderName(editing) : ""}`} lead="The key of the folder is encrypted for these keys, in its object .bspan/key.age. The files stay as they are.">
        {editing && <RecoveryForm folder={editing} onClose={() => setEditing(undefined)} />}
      </Dialog>
      <Dialog open={!!removing} onOpenChange={() => setRemoving(undefined)} title={`Remove the key of ${removing ? folderName(removing) : ""}?`} lead="The files stay in the bucket. They can then be opened with a recovery key alone.">
        {removing && <RemoveKey folder={removing} onClose={() => setRemoving(undefined)} />}
      </Dialog>
      <Dialog open={importing} onOpenChange={setImporting} title="Import the key of a sealed folder" lead="For a folder that was sealed before, as with another installation of Bridge Span. A recovery key opens the key in its object .bspan/key.age.">
        {importing && <ImportForm server={server} onClose={() => setImporting(false)} />}
      </Dialog>
    </Section>
  );
}

function RecoveryForm({ folder: f, onClose }: { folder: Folder; onClose: () => void }) {
  const [keys, setKeys] = useState(f.recoveryKeys.join("\n"));
  const save = () => api.PATCH("/api/v1/sealed-folders/{recipient}", { params: { path: { recipient: f.recipient }, header: { "If-Match": etag(f.version) } }, body: { recoveryKeys: keysIn(keys) } });
  return (
    <SaveForm action="Set the recovery keys" done={`${plural(keysIn(keys).length, "recovery key")} set.`} fields={["recoveryKeys"]} save={save} onDone={onClose} onCancel={onClose}>
      {(errors) => <RecoveryKeys keys={keys} onChange={setKeys} error={errors.recoveryKeys} />}
    </SaveForm>
  );
}

function RemoveKey({ folder: f, onClose }: { folder: Folder; onClose: () => void }) {
  const remove = (rehearse?: boolean) => api.DELETE("/api/v1/sealed-folders/{recipient}", { params: { path: { recipient: f.recipient }, query: { rehearse }, header: { "If-Match": etag(f.version) } } });
  return (
    <SaveForm action="Remove the key" busy="Removing …" danger done={`The key of ${folderName(f)} was removed.`} save={() => remove()} onDone={onClose} onCancel={onClose}>
      {() => <Consequences of={["sealed-folder", f.recipient, f.version]} ask={() => remove(true)} />}
    </SaveForm>
  );
}

function ImportForm({ server, onClose }: { server: string; onClose: () => void }) {
  const [place, setPlace] = useState("");
  const [key, setKey] = useState("");
  const [names, setNames] = useState(false);
  const [keys, setKeys] = useState("");
  const [bucket = "", ...folder] = place.trim().split("/");
  const save = () => api.POST("/api/v1/sealed-folders", { body: { server, bucket, folder: folder.join("/"), key, names, recoveryKeys: keysIn(keys) } });
  return (
    <SaveForm action="Import the key" busy="Trying the key …" done={`The key of ${place} was imported.`} fields={["bucket", "folder", "key", "recoveryKeys"]} save={save} onDone={onClose} onCancel={onClose}>
      {(errors) => (
        <>
          <TextField label="Bucket, or BUCKET/FOLDER" mono value={place} onChange={(e) => setPlace(e.target.value)} error={errors.bucket ?? errors.folder} />
          <TextField label="Private key of the folder" mono type="password" autoComplete="off" value={key} placeholder="AGE-SECRET-KEY-1…" onChange={(e) => setKey(e.target.value)} error={errors.key} />
          <Check label="Names are sealed, too" checked={names} onChange={setNames} />
          <RecoveryKeys keys={keys} onChange={setKeys} error={errors.recoveryKeys} />
        </>
      )}
    </SaveForm>
  );
}
