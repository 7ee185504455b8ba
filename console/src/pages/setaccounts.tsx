// The accounts that the permissions of a set name, and how the server of each replica sees them.
import { useMutation, useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { api, got, type ReplicaSet, type Schemas } from "../api/client";
import { Status, type Tone } from "../components/status";
import { DataTable, type Column } from "../components/table";
import { Button, Section, sentence, Trouble } from "../components/ui";
import { plural, when } from "../format";

type Use = Schemas["AccountUse"];

const reaches: Record<Use["reach"], [Tone, string]> = { everywhere: ["good", "same everywhere"], mapped: ["good", "mapped"], local: ["warn", "local"], unresolved: ["bad", "unresolved"] };

/** An account, and what follows where a server cannot resolve it. */
function Named({ use: a }: { use: Use }) {
  return (
    <>
      <span className="font-medium break-all">{a.name}</span>
      {a.effect && a.remedy && <span className="block max-w-md min-w-64 text-sm whitespace-normal text-soft">{sentence(a.effect)} {sentence(a.remedy)}</span>}
    </>
  );
}

export function AccountsInUse({ set }: { set: ReplicaSet }) {
  const path = { set: set.name };
  const query = useQuery({
    queryKey: ["replica", "account-uses", set.name],
    retry: false,
    refetchInterval: (q) => (q.state.data && ["waiting", "running"].includes(q.state.data.run.state) ? 1000 : false),
    queryFn: async () => (await got(api.GET("/api/v1/replica-sets/{set}/account-uses", { params: { path } }))).items[0] ?? null,
  });
  const find = useMutation({ mutationFn: () => got(api.POST("/api/v1/replica-sets/{set}/account-uses", { params: { path } })), onSuccess: () => void query.refetch() });
  const u = query.data ?? undefined;
  const places = u?.accounts[0]?.there.map((t) => t.replica).join("\n") ?? "";
  const columns = useMemo<Column<Use>[]>(
    () => [
      { head: "Account", by: (a) => a.name, cell: (a) => <Named use={a} /> },
      { head: "Status", by: (a) => a.reach, cell: (a) => <Status tone={reaches[a.reach][0]}>{reaches[a.reach][1]}</Status> },
      ...places.split("\n").filter(Boolean).map((replica, i): Column<Use> => ({ head: `At ${replica}`, by: (a) => a.there[i]?.name ?? "", cell: (a) => <span className={`break-all ${a.there[i]?.known ? "" : "font-mono text-sm text-soft"}`}>{a.there[i]?.name}</span> })),
      { head: "Items", right: true, by: (a) => a.uses, cell: (a) => <span title={`Example: ${a.example}`}>{a.uses.toLocaleString("en")}</span> },
    ],
    [places],
  );
  const busy = u && ["waiting", "running"].includes(u.run.state);
  return (
    <Section title="Accounts in use" aside={u && `${u.looked.toLocaleString("en")} files and folders of ${u.read ?? "…"} on ${when(u.run.created)}`}>
      <div className="mb-3"><Button disabled={find.isPending || busy} onClick={() => find.mutate()}>{busy ? "Reading permissions …" : u ? "List again" : "List accounts"}</Button></div>
      {find.error && <Trouble error={find.error} />}
      {u?.run.trouble && <Trouble error={new Error(u.run.trouble)} />}
      {u?.unread ? <p className="mb-2 text-soft">Could not read {plural(u.unread, "item")}.</p> : null}
      {u?.more && <p className="mb-2 text-soft">There are more accounts than are listed.</p>}
      {u?.missing?.map((m) => <p key={m} className="mb-2 text-soft">Not reached: {m}</p>)}
      {u && !busy && <DataTable what="accounts" query={{ ...query, data: u.accounts }} columns={columns} keyOf={(a) => a.sid} empty="The permissions name no accounts." />}
      {query.data === null && <p className="text-soft">Permissions store accounts as SIDs. Other servers cannot resolve the local account of one server, and its entries grant nothing there.</p>}
    </Section>
  );
}
