// Cloud sets that are being set up.
import { useMemo, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, type CloudSetup } from "../api/client";
import { useCloudSetups } from "../api/queries";
import { SaveForm } from "../components/form";
import { DataTable, type Column } from "../components/table";
import { Button, Dialog, Section, TextField } from "../components/ui";
import { plural, when } from "../format";

const setupPage = (name: string) => `/cloud-setups/${encodeURIComponent(name)}`;

export function Setups() {
  const query = useCloudSetups();
  const [adding, setAdding] = useState(false);
  const columns = useMemo<Column<CloudSetup>[]>(
    () => [
      { head: "Set", by: (s) => s.name, cell: (s) => <Link className="font-medium text-span underline underline-offset-2" to={setupPage(s.name)}>{s.name}</Link> },
      { head: "Next step", by: (s) => s.next, cell: (s) => s.next || "being created" },
      { head: "Bucket", wide: true, by: (s) => s.bucket ?? "", cell: (s) => <span className="font-mono">{[s.account, s.bucket].filter(Boolean).join("/")}</span> },
      { head: "Edges", right: true, by: (s) => s.edges?.length ?? 0, cell: (s) => plural(s.edges?.length ?? 0, "edge") },
      { head: "Changed", right: true, by: (s) => s.changed, cell: (s) => when(s.changed) },
      { head: "By", by: (s) => s.by, cell: (s) => s.by },
    ],
    [],
  );
  const add = <Button onClick={() => setAdding(true)}>Set up a cloud set</Button>;
  return (
    <div className="mt-8"><Section title="Cloud sets being set up" aside={query.data && query.data.length > 0 ? add : undefined}>
      <DataTable what="set-ups" query={query} columns={columns} keyOf={(s) => s.name} empty="No cloud set is being set up. A set-up goes step by step from the account to the first fill; it can be left and resumed." emptyAction={add} />
      <Dialog open={adding} onOpenChange={setAdding} title="Set up a cloud set" lead="A bucket and folders on servers. Nothing is changed before the last step.">
        <AddSetup onClose={() => setAdding(false)} />
      </Dialog>
    </Section></div>
  );
}

function AddSetup({ onClose }: { onClose: () => void }) {
  const [name, setName] = useState("");
  const navigate = useNavigate();
  return (
    <SaveForm action="Begin" fields={["name"]} onDone={() => void navigate(setupPage(name.trim()))} onCancel={onClose} save={() => api.POST("/api/v1/cloud-setups", { body: { name: name.trim() } })}>
      {(errors) => <TextField label="Name of the set" value={name} onChange={(e) => setName(e.target.value)} error={errors.name} />}
    </SaveForm>
  );
}
