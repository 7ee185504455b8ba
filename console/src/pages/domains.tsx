// The domains whose accounts are asked for.
import { useMemo, useState } from "react";
import { api, etag, type Schemas } from "../api/client";
import { useDirectories } from "../api/queries";
import { SaveForm } from "../components/form";
import { DataTable, type Column } from "../components/table";
import { Button, Dialog, Section, TextArea, TextField } from "../components/ui";

type Directory = Schemas["Directory"];

export function Domains() {
  const query = useDirectories();
  const [adding, setAdding] = useState(false);
  const [removing, setRemoving] = useState<Directory>();
  const columns = useMemo<Column<Directory>[]>(
    () => [
      { head: "Domain", by: (d) => d.name, cell: (d) => <span className="font-medium">{d.name}</span> },
      { head: "Directory", by: (d) => d.address, cell: (d) => <code>{d.address}:{d.port}</code> },
      { head: "Read as", by: (d) => d.account, cell: (d) => <code>{d.account}</code> },
      { head: "SID", by: (d) => d.sid, cell: (d) => <code className="text-xs">{d.sid}</code> },
      { head: "Note", wide: true, by: (d) => d.note ?? "", cell: (d) => <span className="text-soft">{d.note}</span> },
      { head: "Remove", cell: (d) => <button className="text-span underline underline-offset-2" onClick={() => setRemoving(d)} aria-label={`Forget ${d.name}`}>forget</button> },
    ],
    [],
  );
  return (
    <Section title="Domains" aside={<Button onClick={() => setAdding(true)}>Add a domain</Button>}>
      <DataTable what="domains" query={query} columns={columns} keyOf={(d) => d.name} empty="No domain is known yet: groups of domain accounts cannot be told without its directory." />
      <Dialog open={adding} onOpenChange={setAdding} title="Add a domain" lead="Its directory is only ever read, over LDAP with TLS, to know who belongs to which groups.">
        <AddDomain onClose={() => setAdding(false)} />
      </Dialog>
      <Dialog open={removing !== undefined} onOpenChange={(open) => !open && setRemoving(undefined)} title={`Forget ${removing?.name ?? ""}?`} lead="The domain itself is left alone. What its accounts may do can then only be told in part.">
        <SaveForm action="Forget" danger done={`${removing?.name} was forgotten.`} onCancel={() => setRemoving(undefined)} onDone={() => setRemoving(undefined)}
          save={() => api.DELETE("/api/v1/directories/{directory}", { params: { path: { directory: removing?.name ?? "" }, header: { "If-Match": etag(removing?.version ?? 0) } } })} />
      </Dialog>
    </Section>
  );
}

function AddDomain({ onClose }: { onClose: () => void }) {
  const [address, setAddress] = useState("");
  const [account, setAccount] = useState("");
  const [password, setPassword] = useState("");
  const [ca, setCA] = useState("");
  return (
    <SaveForm action="Sign in and add" busy="Signing in …" done="The domain was added." fields={["address", "account", "password", "ca"]} onDone={onClose} onCancel={onClose}
      save={() => api.POST("/api/v1/directories", { body: { address, account, password, ca: ca || undefined } })}>
      {(errors) => (
        <>
          <TextField label="Address" value={address} onChange={(e) => setAddress(e.target.value)} error={errors.address} help="Host name or address of a domain controller." />
          <TextField label="Account" value={account} onChange={(e) => setAccount(e.target.value)} error={errors.account} help="name@realm; it needs no rights but to read." />
          <TextField label="Password" type="password" autoComplete="off" value={password} onChange={(e) => setPassword(e.target.value)} error={errors.password} />
          <TextArea label="Certificate" help="That vouches for the directory, in PEM; empty for those that the system trusts." error={errors.ca} className="text-xs" value={ca} onChange={(e) => setCA(e.target.value)} />
        </>
      )}
    </SaveForm>
  );
}
