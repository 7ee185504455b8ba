// A migration: its shares, how far each is, what surveys found, and whom the permissions name.
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, etag, got, type Migration, type Schemas } from "../api/client";
import { useMigration, useMigrationAccounts } from "../api/queries";
import { AccountTable } from "../components/accountsinuse";
import { Meter } from "../components/figures";
import { FindingLines } from "../components/findinglines";
import { SaveForm } from "../components/form";
import { Status, type Tone } from "../components/status";
import { DataTable, type Column } from "../components/table";
import { Button, Dialog, Empty, Loading, PageHead, Section, TextArea, TextField, Trouble } from "../components/ui";
import { ago, bytes, plural, when } from "../format";
import { lines, listError, listFields, SurveyStatus } from "./migrations";

type Share = Schemas["MigrationShare"];
type Account = Schemas["MigrationAccount"];

export function MigrationPage() {
  const { migration: name = "" } = useParams();
  const query = useMigration(name);
  const [editing, setEditing] = useState(false);
  const [removing, setRemoving] = useState(false);
  const navigate = useNavigate();
  const m = query.data;
  return (
    <>
      <PageHead title={name} verdict={m && <SurveyStatus migration={m} />}>
        {m && <SurveyButton migration={m} />}
        {m && <Button onClick={() => setEditing(true)}>Change</Button>}
        {m && <Button onClick={() => setRemoving(true)}>Remove …</Button>}
      </PageHead>
      {query.isPending && <Loading what="the migration" />}
      {query.error && !m && <Trouble error={query.error} retry={() => void query.refetch()} />}
      {m && <Board migration={m} />}
      {m && <AccountsInUse migration={m} />}
      {m && <Target migration={m} />}
      <Dialog open={editing} onOpenChange={setEditing} title={`Change ${name}`} lead="Choose what moves, and what stays.">
        {m && <EditMigration migration={m} onClose={() => setEditing(false)} />}
      </Dialog>
      <Dialog open={removing} onOpenChange={setRemoving} title={`Remove the migration ${name}?`} lead="Nothing is changed at the servers. The surveys of the shares stay.">
        {m && <SaveForm action="Remove" danger done={`The migration ${name} was removed.`} onDone={() => void navigate("/migrations")} onCancel={() => setRemoving(false)} save={() => api.DELETE("/api/v1/migrations/{migration}", { params: { path: { migration: m.name }, header: { "If-Match": etag(m.version) } } })} />}
      </Dialog>
    </>
  );
}

function SurveyButton({ migration: m }: { migration: Migration }) {
  const queries = useQueryClient();
  const start = useMutation({ mutationFn: () => got(api.POST("/api/v1/migrations/{migration}/surveys", { params: { path: { migration: m.name } } })), onSuccess: () => void queries.invalidateQueries({ queryKey: ["run", "migration"] }) });
  const busy = m.shares.some((h) => h.survey.state === "running");
  return (
    <>
      {start.error && <Trouble error={start.error} />}
      <Button look={m.totals.surveyed < m.totals.shares ? "main" : "plain"} disabled={start.isPending || busy} onClick={() => start.mutate()}>{m.totals.surveyed > 0 ? "Survey again" : "Survey"}</Button>
    </>
  );
}

const tones: Record<Share["survey"]["state"], Tone> = { missing: "none", running: "good", stopped: "held", failed: "bad", done: "good" };

/** How far the survey of a share is. */
function Surveyed({ share: h }: { share: Share }) {
  if (h.left) return <span className="text-soft">{h.left === "choice" ? "stays" : "stays (administrative)"}</span>;
  const { state, run, fraction, trouble } = h.survey;
  if (state === "missing") return <Status tone="none">not surveyed</Status>;
  return (
    <>
      <Link to={`/runs/${run}`} className="hover:underline" title={h.counts && when(h.counts.at)}>
        <Status tone={tones[state]}>{state === "done" && h.counts ? ago(h.counts.at) : state}</Status>
      </Link>
      {state === "running" && <Meter label={`Survey of ${h.share}`} share={fraction} />}
      {trouble && <span className="block max-w-xs text-sm whitespace-normal text-bad">{trouble}</span>}
    </>
  );
}

/** A number of things that need somebody, of a surveyed share. */
const Counted = ({ share: h, n }: { share: Share; n: number | undefined }) => (h.left || n === undefined ? null : <span className={n > 0 ? "text-warn" : undefined}>{n.toLocaleString("en")}</span>);

/** Lets shares stay, or migrates them. */
function useLeave(m: Migration) {
  const queries = useQueryClient();
  const leave = useMutation({
    mutationFn: ({ place, stays }: { place: string; stays: boolean }) =>
      got(api.PATCH("/api/v1/migrations/{migration}", { params: { path: { migration: m.name }, header: { "If-Match": etag(m.version) } }, body: { leave: stays ? [...(m.leave ?? []), place] : (m.leave ?? []).filter((other) => other !== place) } })),
    onSettled: () => void queries.invalidateQueries({ queryKey: ["run", "migration"] }),
  });
  return leave;
}

function Board({ migration: m }: { migration: Migration }) {
  const { mutate, isPending, error } = useLeave(m);
  const columns = useMemo<Column<Share>[]>(
    () => [
      { head: "Migrate", cell: (h) => <input type="checkbox" className="size-4 accent-(--span)" aria-label={`Migrate ${h.server}/${h.share}`} checked={!h.left} disabled={isPending || h.left === "administrative"} onChange={(e) => mutate({ place: `${h.server}/${h.share}`, stays: !e.target.checked })} /> },
      { head: "Share", by: (h) => `${h.server}/${h.share}`, cell: (h) => <Link className={`break-all ${h.left ? "text-soft" : "font-medium text-span underline underline-offset-2"}`} to={`/servers/${encodeURIComponent(h.server)}/shares/${encodeURIComponent(h.share)}`}>{h.server}/{h.share}</Link> },
      { head: "Folder", by: (h) => h.folder, cell: (h) => !h.left && <span className="font-mono text-sm break-all">{h.folder}</span> },
      { head: "Status", by: (h) => h.left ?? h.survey.state, cell: (h) => <Surveyed share={h} /> },
      { head: "Files", right: true, by: (h) => h.counts?.files ?? -1, cell: (h) => !h.left && h.counts?.files.toLocaleString("en") },
      { head: "Size", right: true, by: (h) => h.counts?.bytes ?? -1, cell: (h) => !h.left && h.counts && bytes(h.counts.bytes) },
      { head: "Changed per day", right: true, by: (h) => h.counts?.changedBytesPerDay ?? -1, cell: (h) => !h.left && h.counts && <span title={`${h.counts.compared ? "Since the survey of" : "By the times of the files, since"} ${when(h.counts.changedSince)}`}>{bytes(h.counts.changedBytesPerDay)}</span> },
      { head: "Unreadable", right: true, by: (h) => h.counts?.keptOut ?? -1, cell: (h) => <Counted share={h} n={h.counts?.keptOut} /> },
      { head: "Open", right: true, by: (h) => h.counts?.open ?? -1, cell: (h) => <Counted share={h} n={h.counts?.open} /> },
      { head: "Refused names", right: true, by: (h) => h.counts?.names ?? -1, cell: (h) => <Counted share={h} n={h.counts?.names} /> },
      { head: "Findings", right: true, by: (h) => h.counts?.findings ?? -1, cell: (h) => <Counted share={h} n={h.counts?.findings} /> },
    ],
    [mutate, isPending],
  );
  const t = m.totals;
  return (
    <Section title="Shares" aside={t.surveyed > 0 && <Reports migration={m} />}>
      {t.surveyed > 0 && <p className="mb-2">{plural(t.files, "file")} in {plural(t.folders, "folder")}, {bytes(t.bytes)}; {bytes(t.changedBytesPerDay)} change in a day.{t.keptOut > 0 && <span className="text-warn"> The account of the server cannot read {plural(t.keptOut, "item")}.</span>}</p>}
      {m.note && <p className="mb-2 text-soft">{m.note}</p>}
      {error && <Trouble error={error} />}
      {m.missing?.map((text) => <p key={text} className="mb-2 text-warn">{text}</p>)}
      <DataTable what="shares" query={{ data: m.shares, isPending: false, error: null, refetch: () => undefined }} columns={columns} keyOf={(h) => `${h.server}/${h.share}`} empty="No share of the sources is known." />
    </Section>
  );
}

/** What the surveys found, to be kept and sent. */
function Reports({ migration: m }: { migration: Migration }) {
  const at = `/api/v1/migrations/${encodeURIComponent(m.name)}/survey-report?form=`;
  return (
    <span className="flex gap-3">
      {([["html", "Report", "survey.html"], ["shares", "Shares as CSV", "shares.csv"], ["accounts", "Accounts as CSV", "accounts.csv"]] as const).map(([form, text, file]) => (
        <a key={form} className="text-span underline underline-offset-2" href={at + form} download={file}>{text}</a>
      ))}
    </span>
  );
}

const where: Column<Account>[] = [
  { head: "Server", by: (a) => a.server, cell: (a) => a.server },
  { head: "Shares", by: (a) => a.shares.join(" "), cell: (a) => <span className="block max-w-xs whitespace-normal">{a.shares.join(", ")}</span> },
];

function AccountsInUse({ migration: m }: { migration: Migration }) {
  const query = useMigrationAccounts(m.name, m.shares.flatMap((h) => (h.counts && !h.left ? [h.counts.run] : [])));
  if (m.totals.surveyed === 0) return <Section title="Accounts in use"><Empty>A survey lists the accounts that permissions name, and tells which of them another server does not know.</Empty></Section>;
  const strange = query.data?.filter((a) => a.reach !== "everywhere").length;
  return (
    <Section title="Accounts in use" aside={strange !== undefined && (strange === 0 ? "every account is known to other servers" : `${plural(strange, "account")} not known to other servers`)}>
      <AccountTable query={query} where={where} keyOf={(a) => `${a.server} ${a.sid}`} />
    </Section>
  );
}

/** Where the shares go, and what was found there. */
function Target({ migration: m }: { migration: Migration }) {
  const queries = useQueryClient();
  const [choosing, setChoosing] = useState(false);
  const check = useMutation({ mutationFn: () => got(api.POST("/api/v1/migrations/{migration}/target-check", { params: { path: { migration: m.name } } })), onSettled: () => void queries.invalidateQueries({ queryKey: ["run", "migration"] }) });
  const choose = <Button look={m.target ? "plain" : "main"} onClick={() => setChoosing(true)}>{m.target ? "Change the target" : "Choose a target"}</Button>;
  return (
    <Section title="Target" aside={m.targetChecked && `checked ${ago(m.targetChecked)}`}>
      {m.target ? (
        <div className="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-2">
          <span className="font-mono break-all">{m.target}</span>
          {choose}
          <Button look={m.targetChecked ? "plain" : "main"} disabled={check.isPending} onClick={() => check.mutate()}>{check.isPending ? "Checking …" : m.targetChecked ? "Check again" : "Check the target"}</Button>
        </div>
      ) : (
        <Empty action={choose}>A folder for each share goes there. Choose a share of another server that only administrators use, such as one of the whole volume.</Empty>
      )}
      {check.error && <Trouble error={check.error} />}
      <FindingLines list={m.targetChecks} />
      <Dialog open={choosing} onOpenChange={setChoosing} title="Choose a target" lead="Nothing is changed at the server.">
        <ChooseTarget migration={m} onClose={() => setChoosing(false)} onChosen={() => check.mutate()} />
      </Dialog>
    </Section>
  );
}

function ChooseTarget({ migration: m, onClose, onChosen }: { migration: Migration; onClose: () => void; onChosen: () => void }) {
  const [target, setTarget] = useState(m.target ?? "");
  const done = () => {
    onClose();
    if (target.trim()) onChosen();
  };
  return (
    <SaveForm action="Choose" fields={["target"]} onDone={done} onCancel={onClose} save={() => api.PATCH("/api/v1/migrations/{migration}", { params: { path: { migration: m.name }, header: { "If-Match": etag(m.version) } }, body: { target: target.trim() } })}>
      {(errors) => <TextField label="Target" mono help="SERVER/SHARE or SERVER/SHARE/FOLDER, such as yarrow/volume$" value={target} onChange={(e) => setTarget(e.target.value)} error={errors.target} />}
    </SaveForm>
  );
}

function EditMigration({ migration: m, onClose }: { migration: Migration; onClose: () => void }) {
  const [sources, setSources] = useState(m.sources.join("\n"));
  const [leave, setLeave] = useState((m.leave ?? []).join("\n"));
  const [folders, setFolders] = useState((m.folders ?? []).map((f) => `${f.share} = ${f.folder}`).join("\n"));
  const [note, setNote] = useState(m.note ?? "");
  const body = { sources: lines(sources), leave: lines(leave), folders: lines(folders).map(asFolder), note: note.trim() };
  return (
    <SaveForm action="Save" fields={["note", ...listFields("sources", body.sources.length), ...listFields("leave", body.leave.length), ...body.folders.flatMap((_, i) => [`folders[${i}].share`, `folders[${i}].folder`])]} onDone={onClose} onCancel={onClose} save={() => api.PATCH("/api/v1/migrations/{migration}", { params: { path: { migration: m.name }, header: { "If-Match": etag(m.version) } }, body })}>
      {(errors) => (
        <>
          <TextArea label="Sources" help="A line each: a server with every share, or one share as SERVER/SHARE" rows={3} value={sources} onChange={(e) => setSources(e.target.value)} error={listError(errors, "sources")} />
          <TextArea label="Shares that stay" help="A line each, as SERVER/SHARE. Administrative shares stay by themselves." rows={3} value={leave} onChange={(e) => setLeave(e.target.value)} error={listError(errors, "leave")} />
          <TextArea label="Folders at the target" help="A line each, as SERVER/SHARE = FOLDER. The other shares go to a folder of their own name." rows={2} value={folders} onChange={(e) => setFolders(e.target.value)} error={listError(errors, "folders")} />
          <TextField label="Note" value={note} onChange={(e) => setNote(e.target.value)} error={errors.note} />
        </>
      )}
    </SaveForm>
  );
}

/** Reads a line such as fern/herbarium = collections/herbarium. */
function asFolder(line: string) {
  const [share = "", ...folder] = line.split("=");
  return { share: share.trim(), folder: folder.join("=").trim() };
}
