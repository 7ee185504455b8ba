// Accounts in permissions: whom they are known to, and on how much they stand.
import type { Schemas } from "../api/client";
import { Status, type Tone } from "./status";
import { DataTable, type Column, type Rows } from "./table";

type Account = Schemas["SurveyedAccount"];

const reaches: Record<Account["reach"], [Tone, string]> = { everywhere: ["good", "other servers"], local: ["warn", "this server alone"], unresolved: ["bad", "nobody"] };

function Named({ account: a }: { account: Account }) {
  return (
    <>
      <span className="font-medium break-all" title={a.sid}>{a.name}</span>
      {a.members && <span className="block max-w-md text-sm whitespace-normal text-soft">{a.members.join(", ")}</span>}
    </>
  );
}

/** A table of accounts; where is what tells of each where it was found. */
export function AccountTable<A extends Account>({ query, where = [], keyOf }: { query: Rows<A>; where?: Column<A>[]; keyOf: (a: A) => string }) {
  const columns: Column<A>[] = [
    { head: "Account", by: (a) => a.name, cell: (a) => <Named account={a} /> },
    { head: "Kind", by: (a) => a.kind, cell: (a) => (a.builtIn ? "built-in group" : a.kind.replace("-", " ")) },
    { head: "Known to", by: (a) => a.reach, cell: (a) => <Status tone={reaches[a.reach][0]}>{reaches[a.reach][1]}</Status> },
    ...where,
    { head: "Files", right: true, by: (a) => a.files, cell: (a) => <span title={a.sample && `Example: ${a.sample}`}>{a.files.toLocaleString("en")}</span> },
    { head: "Folders", right: true, by: (a) => a.folders, cell: (a) => a.folders.toLocaleString("en") },
    { head: "Share permissions", by: (a) => String(a.onShare), cell: (a) => (a.onShare ? "named" : "") },
  ];
  return <DataTable what="accounts" query={query} columns={columns} keyOf={keyOf} empty="The permissions name no accounts." />;
}
