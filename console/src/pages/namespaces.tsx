import { useMemo, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, type Namespace } from "../api/client";
import { useNamespaces } from "../api/queries";
import { SaveForm } from "../components/form";
import { DataTable, type Column } from "../components/table";
import { Button, Dialog, PageHead, TextField } from "../components/ui";

export function NamespacesPage() {
  const namespaces = useNamespaces();
  const [adding, setAdding] = useState(false);
  const columns = useMemo<Column<Namespace>[]>(
    () => [
      { head: "Namespace", by: (n) => n.name, cell: (n) => <Link className="font-mono font-medium text-span underline underline-offset-2" to={`/namespaces/${n.name}`}>/{n.name}</Link> },
      { head: "Folders", right: true, by: (n) => n.folders, cell: (n) => n.folders },
      { head: "Signposts", right: true, by: (n) => n.signposts, cell: (n) => n.signposts },
      { head: "Directions kept", right: true, by: (n) => n.ttl, cell: (n) => `${n.ttl} s` },
      { head: "Note", wide: true, by: (n) => n.note ?? "", cell: (n) => <span className="text-soft">{n.note}</span> },
    ],
    [],
  );
  const add = <Button look="main" onClick={() => setAdding(true)}>Make a namespace</Button>;
  return (
    <>
      <PageHead title="Namespaces" verdict={<span className="text-soft">Trees of names for people: one path each, whatever server holds the data.</span>}>
        {add}
      </PageHead>
      <DataTable what="namespaces" query={namespaces} columns={columns} keyOf={(n) => n.name} empty="There is no namespace yet." emptyAction={add} />
      <Dialog open={adding} onOpenChange={setAdding} title="Make a namespace">
        <AddNamespace onClose={() => setAdding(false)} />
      </Dialog>
    </>
  );
}

function AddNamespace({ onClose }: { onClose: () => void }) {
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const [note, setNote] = useState("");
  return (
    <SaveForm action="Make it" done={`/${name} was made.`} fields={["name", "note"]} save={() => api.POST("/api/v1/namespaces", { body: { name, note: note || undefined } })} onDone={() => void navigate(`/namespaces/${name}`)} onCancel={onClose}>
      {(errors) => (
        <>
          <TextField label="Name" mono value={name} onChange={(e) => setName(e.target.value)} error={errors.name} help="Lower-case letters, digits and hyphens: it is part of every path and URL." autoFocus />
          <TextField label="Note" value={note} onChange={(e) => setNote(e.target.value)} error={errors.note} />
        </>
      )}
    </SaveForm>
  );
}
