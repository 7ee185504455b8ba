// What a person may do with a path of a set, at each replica.
import { useMutation } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { api, got, type ReplicaSet, type Schemas } from "../api/client";
import { Status } from "../components/status";
import { DataTable, type Column } from "../components/table";
import { Button, Section, TextField, Trouble } from "../components/ui";

type Place = Schemas["AccessAt"];

export function AccessAcross({ set }: { set: ReplicaSet }) {
  const [path, setPath] = useState("");
  const [person, setPerson] = useState("");
  const compare = useMutation({ mutationFn: () => got(api.GET("/api/v1/replica-sets/{set}/access", { params: { path: { set: set.name }, query: { path: path.trim(), as: person.trim() } } })) });
  const columns = useMemo<Column<Place>[]>(
    () => [
      { head: "Replica", by: (p) => p.replica, cell: (p) => <span className="font-medium">{p.replica}</span> },
      { head: "Account", by: (p) => p.rights?.account.name ?? "", cell: (p) => <span className="font-mono break-all">{p.rights?.account.name}</span> },
      { head: "Effective", by: (p) => p.rights?.level ?? "", cell: (p) => (p.rights ? p.rights.level : <Status tone="warn">unknown</Status>) },
      { head: "File permissions", by: (p) => p.rights?.file ?? "", cell: (p) => p.rights?.file },
      { head: "Share permissions", by: (p) => p.rights?.share ?? "", cell: (p) => p.rights?.share },
      { head: "Reasons", wide: true, cell: (p) => <span className="break-words">{p.problem ?? [...(p.rights?.reasons ?? []).map((r) => r.text), p.rights?.missing].filter(Boolean).join("; ")}</span> },
    ],
    [],
  );
  const found = compare.data;
  return (
    <Section title="Effective access" aside={found && <Status tone={found.same ? "good" : "warn"}>{found.same ? "the same everywhere" : "not the same everywhere"}</Status>}>
      <form className="mb-3 flex flex-wrap items-end gap-3" onSubmit={(e) => { e.preventDefault(); compare.mutate(); }}>
        <div className="w-56"><TextField label="Person" value={person} placeholder="ivy.marsh" onChange={(e) => setPerson(e.target.value)} /></div>
        <div className="min-w-80 flex-1"><TextField label="Path in the set" mono value={path} placeholder="the top" onChange={(e) => setPath(e.target.value)} /></div>
        <Button type="submit" disabled={!person.trim()}>Compare</Button>
      </form>
      {compare.error && <Trouble error={compare.error} />}
      {compare.isPending && <p role="status" className="text-soft">Asking the servers …</p>}
      {found && <DataTable what="replicas" query={{ data: found.places, error: null, isPending: false, refetch: () => undefined }} columns={columns} keyOf={(p) => p.replica} empty="No replica of the set has accounts of people." />}
    </Section>
  );
}
