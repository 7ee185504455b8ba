// The files of a share with their permissions: a folder on the left, and on
// the right who may do what with the chosen file or folder, and why.
import { useEffect, useMemo, useState } from "react";
import { Link, useParams } from "react-router";
import type { FolderEntry } from "../api/client";
import { useFolder } from "../api/queries";
import { Status } from "../components/status";
import { DataTable, type Column } from "../components/table";
import { PageHead, TextField } from "../components/ui";
import { bytes, filesOf, when } from "../format";
import { RightsPanel } from "./rights";

export function BrowsePage() {
  const { server = "", share = "", "*": inside = "" } = useParams();
  const folder = [server, share, inside].filter(Boolean).join("/");
  const [chosen, setChosen] = useState<string>();
  const [as, setAs] = useState("");
  const [asked, setAsked] = useState("");
  useEffect(() => setChosen(undefined), [folder]);
  useEffect(() => {
    const later = setTimeout(() => setAsked(as.trim()), 400);
    return () => clearTimeout(later);
  }, [as]);
  const query = useFolder(folder, asked);
  const entries = { data: query.data?.entries, error: query.error, isPending: query.isPending, refetch: query.refetch };
  const path = chosen ? `${folder}/${chosen}` : folder;
  const columns = useMemo<Column<FolderEntry>[]>(
    () => [
      {
        head: "Name", wide: true, by: (e) => e.name,
        cell: (e) => (
          <span className="flex max-w-md items-baseline gap-2">
            {e.kind === "folder" ? <Link className="truncate text-span underline underline-offset-2" title={e.name} to={filesOf(server, share, ...inside.split("/"), e.name)}>{e.name}/</Link> : <span className="truncate" title={e.name}>{e.name}</span>}
          </span>
        ),
      },
      { head: "Size", right: true, by: (e) => e.size, cell: (e) => (e.kind === "file" ? bytes(e.size) : "") },
      { head: "Changed", right: true, by: (e) => e.modified, cell: (e) => <span className="text-soft">{when(e.modified).slice(0, 10)}</span> },
      { head: "Permissions", by: (e) => summary(e), cell: (e) => <Summary entry={e} /> },
      ...(asked && query.data?.as ? [{ head: "May", by: (e: FolderEntry) => e.level ?? "", cell: (e: FolderEntry) => <span className="font-medium">{e.level}</span> }] : []),
      { head: "Rights", cell: (e) => <button className="text-span underline underline-offset-2" aria-label={`Show rights of ${e.name}`} onClick={() => setChosen(e.name)}>show</button> },
    ],
    [server, share, inside, asked, query.data?.as],
  );
  return (
    <>
      <PageHead title={<Crumbs server={server} share={share} inside={inside} />} verdict={<span className="text-soft">Files and who may do what with them</span>} />
      <div className="grid gap-x-8 gap-y-6 xl:grid-cols-[minmax(0,11fr)_minmax(0,9fr)]">
        <div className="min-w-0">
          <div className="mb-3 max-w-80">
            <TextField label="As" value={as} onChange={(e) => setAs(e.target.value)} placeholder="a person or group" help="Shows what that account may do with each entry." />
          </div>
          <DataTable what="entries" query={entries} columns={columns} keyOf={(e) => e.name} empty="The folder is empty." />
          {query.data?.more && <p className="mt-2 text-soft">There are more than shown here: use the command line with a filter.</p>}
        </div>
        <RightsPanel key={path} path={path} as={asked} onUp={chosen ? () => setChosen(undefined) : undefined} />
      </div>
    </>
  );
}

const summary = (e: FolderEntry) => (e.trouble ? "unknown" : e.stale ? "stale" : e.protected ? "own alone" : e.own > 0 ? "own and inherited" : "inherited");

/** Inherited is plain; what was set here stands out. */
function Summary({ entry: e }: { entry: FolderEntry }) {
  if (e.trouble) return <Status tone="bad">unknown</Status>;
  if (e.stale) return <Status tone="warn">stale</Status>;
  if (e.protected) return <span className="font-semibold">own alone ({e.own})</span>;
  if (e.own > 0) return <span className="font-semibold">{e.own} own + {e.inherited}</span>;
  return <span className="text-soft">inherited ({e.inherited})</span>;
}

function Crumbs({ server, share, inside }: { server: string; share: string; inside: string }) {
  const parts = inside.split("/").filter(Boolean);
  return (
    <span className="break-words">
      <Link className="text-soft underline decoration-1 underline-offset-4 hover:text-ink" to={`/servers/${encodeURIComponent(server)}`}>{server}</Link>/
      <Link className="text-soft underline decoration-1 underline-offset-4 hover:text-ink" to={`/servers/${encodeURIComponent(server)}/shares/${encodeURIComponent(share)}`}>{share}</Link>
      {parts.map((part, i) => (
        <span key={i}>
          /{i === parts.length - 1 ? part : <Link className="text-soft underline decoration-1 underline-offset-4 hover:text-ink" to={filesOf(server, share, ...parts.slice(0, i + 1))}>{part}</Link>}
        </span>
      ))}
      {parts.length > 0 && <Link className="ml-3 text-sm font-normal text-span underline underline-offset-2" to={filesOf(server, share, ...parts.slice(0, -1))}>up</Link>}
    </span>
  );
}
