import { useMutation } from "@tanstack/react-query";
import { useMemo, useState, type ReactNode } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, etag, got, type Account, type Server, type Share } from "../api/client";
import { useAccounts, useServer, useServerUse, useShares, useVolumes } from "../api/queries";
import { Meter } from "../components/figures";
import { Consequences } from "../components/consequences";
import { FindingLines } from "../components/findinglines";
import { SaveForm } from "../components/form";
import { DataTable, type Column } from "../components/table";
import { Button, Check as Checkbox, Dialog, Empty, Facts, Loading, PageHead, Section, sentence, TextField, Trouble } from "../components/ui";
import { ago, bytes, when } from "../format";
import { ShareForm } from "./shareform";
import { SealedFolders } from "./sealing";
import { Reach, ServerForm } from "./servers";

export function ServerPage() {
  const { server = "" } = useParams();
  const query = useServer(server);
  const [removing, setRemoving] = useState(false);
  const [editing, setEditing] = useState(false);
  const [telling, setTelling] = useState(false);
  const navigate = useNavigate();
  const check = useMutation({
    mutationFn: () => api.POST("/api/v1/servers/{server}/check", { params: { path: { server } } }),
  });
  if (query.isPending) return <Loading what={server} />;
  if (!query.data) return <Trouble error={query.error} retry={() => void query.refetch()} />;
  const v = query.data;
  return (
    <>
      <PageHead title={v.name} verdict={<Reach server={v} />}>
        <Button look="main" onClick={() => check.mutate()} disabled={check.isPending}>
          {check.isPending ? "Checking …" : "Check now"}
        </Button>
        {v.kind === "cloud" && <Button onClick={() => setTelling(true)}>Event notifications …</Button>}
        <Button onClick={() => setEditing(true)}>Change</Button>
        <Button onClick={() => setRemoving(true)}>Remove …</Button>
      </PageHead>
      {v.trouble && <p className="mb-5 text-bad">{sentence(v.trouble)}</p>}
      {check.error && <div className="mb-5"><Trouble error={check.error} /></div>}
      <div className="grid gap-x-10 xl:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
        <Section title="Check" aside={v.check && `${when(v.check.at)}, took ${v.check.tookMs} ms`}>
          {v.check ? <FindingLines list={v.check.lines} /> : <Empty>It was not checked yet.</Empty>}
        </Section>
        <Section title="Server">
          <Facts
            facts={[
              ["Site", v.site],
              ["Address", <code key="a">{v.address}:{v.port}</code>],
              ...(v.nameForPeople ? [["Name for people", <code key="n">{v.nameForPeople}</code>] as [string, ReactNode]] : []),
              v.kind === "mover" ? ["Mover, known by", <code key="c" className="break-all">{v.certificate}</code>] : [v.kind === "cloud" ? "Access key" : "Account", <code key="c">{v.domain ? `${v.domain}\\${v.account}` : v.account}</code>],
              ...(v.beside ? [["File server beside", v.beside] as [string, string]] : []),
              ...(v.kind === "smb" ? [["Viewers", v.viewersBrowse ? "may look into its folders" : "may not look into its folders"] as [string, string]] : []),
              ...(v.cloud ? [["Region", `${v.cloud.region}; ${v.cloud.plain ? "without TLS" : "TLS"}`] as [string, string]] : []),
              ...(v.cloud?.currency ? [["Prices", `${v.cloud.storedPrice ?? 0} ${v.cloud.currency} per GB and month stored, ${v.cloud.outPrice ?? 0} ${v.cloud.currency} per GB read`] as [string, string]] : []),
              ...(v.unsigned ? [["Messages", "may pass unsigned"] as [string, string]] : []),
              ["State since", v.since ? `${when(v.since)} (${ago(v.since)})` : "not known"],
              ["Note", v.note || "none"],
            ]}
          />
        </Section>
      </div>
      <Shares server={v.name} kind={v.kind} />
      {v.kind === "cloud" && <SealedFolders server={v.name} />}
      <div className="grid gap-x-10 xl:grid-cols-2">
        {v.kind !== "cloud" && (
          <Section title="Volumes">
            <Volumes server={v.name} />
          </Section>
        )}
        {v.kind === "smb" && (
          <Section title="In use now">
            <Use server={v.name} />
          </Section>
        )}
      </div>
      {v.kind === "smb" && (
        <Section title="Its own accounts" aside={v.domain ? `those of ${v.domain} are beside these` : "it stands alone"}>
          <Accounts server={v.name} />
        </Section>
      )}
      <Dialog open={telling} onOpenChange={setTelling} title={`Event notifications of ${v.name}`} lead="When the object service reports changes by HTTP, they arrive within seconds, not with the next sweep.">
        {telling && <EventToken server={v.name} />}
      </Dialog>
      <Dialog open={editing} onOpenChange={setEditing} title={`Change ${v.name}`} lead={`With another address, port${v.kind === "mover" ? " or certificate the secret" : ", domain or account the password"} is needed again: it is only ever sent where it was given for.`}>
        <ServerForm key={v.version} server={v} onClose={() => setEditing(false)} onDone={(name) => void navigate(`/servers/${encodeURIComponent(name)}`, { replace: true })} />
      </Dialog>
      <RemoveServer server={v} open={removing} onOpenChange={setRemoving} />
    </>
  );
}

/** What the shares of a kind of server are called. */
const shareWords: Record<string, string> = { smb: "share", mover: "folder", cloud: "bucket" };
const capital = (word: string) => word.charAt(0).toUpperCase() + word.slice(1);

function Shares({ server, kind }: { server: string; kind: string }) {
  const word = shareWords[kind] ?? "share";
  const shares = useShares(server);
  const [making, setMaking] = useState(false);
  const navigate = useNavigate();
  const survey = useMutation({
    mutationFn: () => api.POST("/api/v1/surveys", { body: { places: [{ server }] } }),
    onSuccess: () => void navigate("/runs"),
  });
  const columns = useMemo<Column<Share>[]>(
    () => [
      { head: capital(word), by: (h) => h.name, cell: (h) => (h.kind === "disk" ? <Link className="font-medium text-span underline underline-offset-2" to={`/servers/${encodeURIComponent(server)}/shares/${encodeURIComponent(h.name)}`}>{h.name}</Link> : h.name) },
      ...(kind === "mover" ? [{ head: "On the host", by: (h: Share) => h.path ?? "", cell: (h: Share) => <code className="break-all">{h.path}</code> }] : []),
      ...(kind === "smb"
        ? [
            { head: "Kind", by: (h: Share) => h.kind, cell: (h: Share) => h.kind },
            { head: "In lists", by: (h: Share) => String(h.hidden), cell: (h: Share) => (h.hidden ? "hidden" : "shown") },
          ]
        : []),
      { head: "Seen", right: true, by: (h) => h.seen, cell: (h) => <span className="whitespace-nowrap">{ago(h.seen)}</span> },
      { head: "Note", wide: true, by: (h) => h.note ?? "", cell: (h) => <span className="text-soft">{h.note}</span> },
    ],
    [server, kind, word],
  );
  return (
    <Section title={capital(word) + "s"} aside={<span className="flex gap-2"><Button disabled={survey.isPending} onClick={() => survey.mutate()}>Survey them all</Button>{kind !== "mover" && <Button onClick={() => setMaking(true)}>Create a {word} …</Button>}</span>}>
      {survey.error && <div className="mb-3"><Trouble error={survey.error} /></div>}
      <DataTable what={word + "s"} query={shares} columns={columns} keyOf={(h) => h.name} empty={`No ${word}s were seen yet; a check looks for them.`} />
      {kind === "cloud" ? (
        <Dialog open={making} onOpenChange={setMaking} title={`Create a bucket in ${server}`} lead="It is created in the region of the account.">
          <BucketForm server={server} onClose={() => setMaking(false)} />
        </Dialog>
      ) : (
        <Dialog open={making} onOpenChange={setMaking} title={`Create a share on ${server}`} lead="Rehearse it first: you see what would be made, and what people may do in the end.">
          <ShareForm server={server} onClose={() => setMaking(false)} />
        </Dialog>
      )}
    </Section>
  );
}

/** The storage under the shares. */
function BucketForm({ server, onClose }: { server: string; onClose: () => void }) {
  const [name, setName] = useState("");
  const save = () => api.POST("/api/v1/servers/{server}/shares", { params: { path: { server } }, body: { name, path: "" } });
  return (
    <SaveForm action="Create the bucket" done={`The bucket ${name} was created.`} fields={["name"]} onDone={onClose} onCancel={onClose} save={save}>
      {(errors) => <TextField label="Name" mono value={name} onChange={(e) => setName(e.target.value)} error={errors.name} help="3 to 63 small letters, digits and hyphens. Names are unique in the whole service." />}
    </SaveForm>
  );
}

function Volumes({ server }: { server: string }) {
  const query = useVolumes(server);
  if (query.isPending) return <Loading what="the volumes" />;
  if (!query.data) return <Trouble error={query.error} retry={() => void query.refetch()} />;
  if (query.data.length === 0) return <Empty>No share lets us see its volume.</Empty>;
  return (
    <ul className="grid gap-3">
      {query.data.map((v) => (
        <li key={v.shares.join()}>
          <div className="flex items-baseline justify-between gap-4">
            <span className="min-w-0 break-words">under {v.shares.join(", ")}</span>
            <span className="whitespace-nowrap">{bytes(v.freeBytes)} free of {bytes(v.totalBytes)}</span>
          </div>
          <Meter label={`Used space under ${v.shares.join(", ")}`} share={1 - v.freeBytes / Math.max(v.totalBytes, 1)} warn={v.freeBytes < v.totalBytes / 10} />
          <Link className="text-sm text-span underline underline-offset-2" to={`/dedup?${new URLSearchParams(v.shares.map((s) => ["place", `${server}/${s}`]))}`}>What would deduplication save?</Link>
        </li>
      ))}
    </ul>
  );
}

/** Who is connected, and what is open. */
function Use({ server }: { server: string }) {
  const query = useServerUse(server);
  if (query.isPending) return <Loading what="who is connected" />;
  if (!query.data) return <Trouble error={query.error} retry={() => void query.refetch()} />;
  const { sessions, files } = query.data;
  if (sessions.length === 0) return <Empty>Nobody is connected.</Empty>;
  return (
    <ul className="border-t border-line">
      {sessions.map((s, i) => (
        <li key={i} className="flex items-baseline justify-between gap-4 border-b border-line py-1">
          <span className="font-medium">{s.person}</span>
          <span className="text-soft">from {s.client}, since {when(s.since)}</span>
        </li>
      ))}
      {files.map((f, i) => (
        <li key={`f${i}`} className="flex items-baseline justify-between gap-4 border-b border-line py-1">
          <code className="min-w-0 truncate" title={f.path}>{f.path}</code>
          <span className="whitespace-nowrap text-soft">open by {f.person}{f.write ? ", for writing" : ""}</span>
        </li>
      ))}
    </ul>
  );
}

function Accounts({ server }: { server: string }) {
  const query = useAccounts({ server });
  const columns = useMemo<Column<Account>[]>(
    () => [
      { head: "Account", by: (a) => a.name, cell: (a) => <span className="font-medium">{a.name}</span> },
      { head: "Kind", by: (a) => a.kind, cell: (a) => a.kind.replace("-", " ") + (a.disabled ? ", disabled" : "") },
      { head: "Means something", wide: true, by: (a) => a.says, cell: (a) => <span className="text-soft">{a.says}</span> },
      { head: "SID", by: (a) => a.sid, cell: (a) => <code className="text-xs">{a.sid}</code> },
    ],
    [],
  );
  return <DataTable what="accounts" query={query} columns={columns} keyOf={(a) => a.sid} empty="It has no accounts of its own." />;
}

function RemoveServer({ server, open, onOpenChange }: { server: Server; open: boolean; onOpenChange: (open: boolean) => void }) {
  const navigate = useNavigate();
  const [detach, setDetach] = useState(false);
  const remove = (rehearse?: boolean) => api.DELETE("/api/v1/servers/{server}", { params: { path: { server: server.name }, query: { detach, rehearse }, header: { "If-Match": etag(server.version) } } });
  return (
    <Dialog open={open} onOpenChange={onOpenChange} title={`Remove ${server.name}?`} lead="Bridge Span forgets it, its checks and its password. The server and its files are left alone. While signposts lead to it, it stays.">
      <SaveForm action="Remove" busy="Removing …" danger done={`${server.name} was removed.`} save={() => remove()} onDone={() => void navigate("/servers")} onCancel={() => onOpenChange(false)}>
        {() => (
          <>
            <Checkbox label="Remove its locations from signposts as well, where others are left" checked={detach} onChange={setDetach} />
            {open && <Consequences of={["server", server.name, server.version, detach]} ask={() => remove(true)} />}
          </>
        )}
      </SaveForm>
    </Dialog>
  );
}

/** Makes the token for event notifications, and shows it once. */
function EventToken({ server }: { server: string }) {
  const make = useMutation({ mutationFn: () => got(api.POST("/api/v1/servers/{server}/event-token", { params: { path: { server } } })) });
  if (make.data)
    return (
      <>
        <Facts facts={[["Address", <code key="a" className="break-all">{window.location.origin}{make.data.path}</code>], ["Bearer token", <code key="t" className="break-all">{make.data.token}</code>]]} />
        <p className="mt-3 text-soft">Enter both in the settings of the object service, for created and removed objects. The token is not shown again.</p>
      </>
    );
  return (
    <>
      {make.error && <Trouble error={make.error} />}
      <p className="mb-3">A token that was made before becomes invalid.</p>
      <Button look="main" disabled={make.isPending} onClick={() => make.mutate()}>Make a token</Button>
    </>
  );
}
