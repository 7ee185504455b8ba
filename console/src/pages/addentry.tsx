import { useState } from "react";
import { api, got, type Entry } from "../api/client";
import { useFileServers, useShares } from "../api/queries";
import { SaveForm } from "../components/form";
import { Field, Select, TextField } from "../components/ui";

export type Place = { server: string; share: string; sub: string };
export const nowhere: Place = { server: "", share: "", sub: "" };

/** Chooses where a location leads: server, share, folder below it. */
export function PlaceFields({ value, onChange, error }: { value: Place; onChange: (place: Place) => void; error?: string }) {
  const servers = useFileServers();
  const shares = useShares(value.server);
  const names = (shares.data ?? []).filter((h) => h.kind === "disk" && h.server === value.server).map((h) => ({ value: h.name, label: h.name }));
  return (
    <div className="grid gap-4">
      <div className="grid grid-cols-2 gap-4">
        <Field label="Server" error={error}>
          {(props) => <Select {...props} value={value.server} onChange={(server) => onChange({ ...nowhere, server })} placeholder="Choose a server" options={(servers.data ?? []).map((v) => ({ value: v.name, label: `${v.name} (${v.site})` }))} />}
        </Field>
        <Field label="Share">{(props) => <Select {...props} value={value.share} onChange={(share) => onChange({ ...value, share })} placeholder={value.server ? "Choose a share" : "Choose a server first"} options={names} />}</Field>
      </div>
      <TextField label="Folder below the share" mono value={value.sub} onChange={(e) => onChange({ ...value, sub: e.target.value })} help="Empty for the whole share." />
    </div>
  );
}

export function AddEntry({ namespace, under, onClose, onAdded }: { namespace: string; under?: Entry; onClose: () => void; onAdded: (id: number) => void }) {
  const [path, setPath] = useState(under?.kind === "folder" ? under.path + "/" : "");
  const [kind, setKind] = useState<"signpost" | "folder">("signpost");
  const [place, setPlace] = useState(nowhere);
  const [note, setNote] = useState("");
  const save = async () => {
    const locations = kind === "signpost" ? [{ ...place, sub: place.sub || undefined }] : undefined;
    const entry = await got(api.POST("/api/v1/namespaces/{namespace}/entries", { params: { path: { namespace } }, body: { path: path.replace(/^\/+|\/+$/g, ""), kind, note: note || undefined, locations } }));
    onAdded(entry.id);
  };
  return (
    <SaveForm action="Add" busy="Opening the location …" done="The entry was added." fields={["path", "locations", "note"]} save={save} onDone={onClose} onCancel={onClose}>
      {(errors) => (
        <>
          <TextField label={`Path in /${namespace}`} mono value={path} onChange={(e) => setPath(e.target.value)} error={errors.path} autoFocus />
          <Field label="Kind" help={kind === "signpost" ? "Leads people to a share." : "Holds other names."}>
            {(props) => (
              <Select {...props} value={kind} onChange={(k) => setKind(k === "folder" ? "folder" : "signpost")} options={[{ value: "signpost", label: "Signpost" }, { value: "folder", label: "Folder" }]} />
            )}
          </Field>
          {kind === "signpost" && <PlaceFields value={place} onChange={setPlace} error={errors.locations} />}
          <TextField label="Note" value={note} onChange={(e) => setNote(e.target.value)} error={errors.note} />
        </>
      )}
    </SaveForm>
  );
}
