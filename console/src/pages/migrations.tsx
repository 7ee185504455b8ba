// Migrations: moves of shares to other servers.
import { useMemo, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, type Migration } from "../api/client";
import { useMigrations } from "../api/queries";
import { SaveForm } from "../components/form";
import { Status } from "../components/status";
import { DataTable, type Column } from "../components/table";
import { Button, Dialog, PageHead, TextArea, TextField } from "../components/ui";
import { bytes, plural } from "../format";

export const migrationPage = (name: string) => `/migrations/${encodeURIComponent(name)}`;

/** How far the survey of a migration is. */
export function SurveyStatus({ migration: m }: { migration: Migration }) {
  const { shares, surveyed } = m.totals;
  const failed = m.shares.filter((h) => !h.left && h.survey.state === "failed").length;
  if (failed > 0) return <Status tone="bad">{`The survey of ${plural(failed, "share")} failed`}</Status>;
  if (m.shares.some((h) => h.survey.state === "running")) return <Status tone="none">Being surveyed</Status>;
  if (shares === 0) return <Status tone="warn">No share is migrated</Status>;
  if (surveyed < shares) return <Status tone="none">{surveyed === 0 ? "Not surveyed yet" : `${plural(shares - surveyed, "share")} not surveyed yet`}</Status>;
  const found = [m.totals.keptOut > 0 && `${plural(m.totals.keptOut, "item")} unreadable`, m.totals.names > 0 && `${plural(m.totals.names, "name")} that other systems refuse`].filter(Boolean);
  return found.length > 0 ? <Status tone="warn">{`Surveyed: ${found.join(", ")}`}</Status> : <Status tone="good">Surveyed</Status>;
}

export function MigrationsPage() {
  const query = useMigrations();
  const [adding, setAdding] = useState(false);
  const columns = useMemo<Column<Migration>[]>(
    () => [
      { head: "Migration", by: (m) => m.name, cell: (m) => <Link className="font-medium text-span underline underline-offset-2" to={migrationPage(m.name)}>{m.name}</Link> },
      { head: "Sources", wide: true, by: (m) => m.sources.join(" "), cell: (m) => <span className="font-mono text-sm break-all">{m.sources.join(", ")}</span> },
      { head: "Status", by: (m) => m.totals.surveyed / Math.max(1, m.totals.shares), cell: (m) => <SurveyStatus migration={m} /> },
      { head: "Shares", right: true, by: (m) => m.totals.shares, cell: (m) => m.totals.shares.toLocaleString("en") },
      { head: "Files", right: true, by: (m) => m.totals.files, cell: (m) => m.totals.files.toLocaleString("en") },
      { head: "Size", right: true, by: (m) => m.totals.bytes, cell: (m) => bytes(m.totals.bytes) },
      { head: "Changed per day", right: true, by: (m) => m.totals.changedBytesPerDay, cell: (m) => bytes(m.totals.changedBytesPerDay) },
    ],
    [],
  );
  const add = <Button look="main" onClick={() => setAdding(true)}>Begin a migration</Button>;
  return (
    <>
      <PageHead title="Migrations" verdict={query.data && <span className="text-soft">{query.data.length === 0 ? "None" : plural(query.data.length, "migration")}</span>}>{query.data && query.data.length > 0 && add}</PageHead>
      <DataTable what="migrations" query={query} columns={columns} keyOf={(m) => m.name} empty="There is no migration. It begins with the servers whose shares move, and a survey of these. Nothing is changed there." emptyAction={add} />
      <Dialog open={adding} onOpenChange={setAdding} title="Begin a migration" lead="Choose what moves. Nothing is changed at these servers.">
        <AddMigration onClose={() => setAdding(false)} />
      </Dialog>
    </>
  );
}

/** The lines of a text, without empty ones. */
export const lines = (text: string) => text.split("\n").map((line) => line.trim()).filter(Boolean);

/** The first error at a list of fields, such as sources[1]. */
export const listError = (errors: Record<string, string>, field: string) => Object.entries(errors).find(([name]) => name === field || name.startsWith(`${field}[`))?.[1];

/** The names of the fields of a list, for the form that shows their errors. */
export const listFields = (field: string, n: number) => [field, ...Array.from({ length: n }, (_, i) => `${field}[${i}]`)];

function AddMigration({ onClose }: { onClose: () => void }) {
  const [name, setName] = useState("");
  const [sources, setSources] = useState("");
  const [note, setNote] = useState("");
  const navigate = useNavigate();
  return (
    <SaveForm action="Begin" fields={["name", "note", ...listFields("sources", lines(sources).length)]} onDone={() => void navigate(migrationPage(name.trim()))} onCancel={onClose} save={() => api.POST("/api/v1/migrations", { body: { name: name.trim(), sources: lines(sources), note: note.trim() || undefined } })}>
      {(errors) => (
        <>
          <TextField label="Name" value={name} onChange={(e) => setName(e.target.value)} error={errors.name} />
          <TextArea label="Sources" help="A line each: a server with every share, or one share as SERVER/SHARE" rows={4} value={sources} onChange={(e) => setSources(e.target.value)} error={listError(errors, "sources")} />
          <TextField label="Note" value={note} onChange={(e) => setNote(e.target.value)} error={errors.note} />
        </>
      )}
    </SaveForm>
  );
}
