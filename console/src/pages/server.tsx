import { useMutation } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, etag, type Check, type Server, type Share } from "../api/client";
import { useServer, useShare, useShares } from "../api/queries";
import { SaveForm } from "../components/form";
import { outcomeTone, Status } from "../components/status";
import { DataTable, type Column } from "../components/table";
import { Button, Dialog, Empty, Facts, Loading, PageHead, Section, sentence, Trouble } from "../components/ui";
import { ago, bytes, plural, when } from "../format";
import { Reach, ServerForm } from "./servers";

export function ServerPage() {
  const { server = "" } = useParams();
  const query = useServer(server);
  const [removing, setRemoving] = useState(false);
  const [editing, setEditing] = useState(false);
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
        <Button onClick={() => setEditing(true)}>Change</Button>
        <Button onClick={() => setRemoving(true)}>Remove …</Button>
      </PageHead>
      {v.trouble && <p className="mb-5 text-bad">{sentence(v.trouble)}</p>}
      {check.error && <div className="mb-5"><Trouble error={check.error} /></div>}
      <div className="grid gap-x-10 xl:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
        <Section title="Check" aside={v.check && `${when(v.check.at)}, took ${v.check.tookMs} ms`}>
          {v.check ? <CheckLines check={v.check} /> : <Empty>It was not checked yet.</Empty>}
        </Section>
        <Section title="Server">
          <Facts
            facts={[
              ["Site", v.site],
              ["Address", <code key="a">{v.address}:{v.port}</code>],
              ["Account", <code key="c">{v.domain ? `${v.domain}\\${v.account}` : v.account}</code>],
              ["State since", v.since ? `${when(v.since)} (${ago(v.since)})` : "not known"],
              ["Note", v.note || "none"],
            ]}
          />
        </Section>
      </div>
      <Shares server={v.name} />
      <Dialog open={editing} onOpenChange={setEditing} title={`Change ${v.name}`} lead="With another address or account the password is needed again: it is only ever sent where it was given for.">
        <ServerForm key={v.version} server={v} onClose={() => setEditing(false)} onDone={(name) => void navigate(`/servers/${encodeURIComponent(name)}`, { replace: true })} />
      </Dialog>
      <RemoveServer server={v} open={removing} onOpenChange={setRemoving} />
    </>
  );
}

/** The lines of a check, each with its remedy where one is needed. */
function CheckLines({ check }: { check: Check }) {
  return (
    <ul className="border-t border-line">
      {check.lines.map((l) => (
        <li key={l.name} className="grid grid-cols-[4.5rem_6.5rem_minmax(0,1fr)] gap-x-3 border-b border-line py-1.5">
          <Status tone={outcomeTone(l.outcome)}>{l.outcome}</Status>
          <span className="font-medium">{l.name}</span>
          <span>
            {l.found}
            {l.means && <span className="block text-soft">{sentence(l.means)}</span>}
            {l.remedy && <span className="block">To mend it: {l.remedy}.</span>}
          </span>
        </li>
      ))}
    </ul>
  );
}

function Shares({ server }: { server: string }) {
  const shares = useShares(server);
  const [shown, setShown] = useState<string>();
  const columns = useMemo<Column<Share>[]>(
    () => [
      { head: "Share", by: (h) => h.name, cell: (h) => (h.kind === "disk" ? <button className="font-medium text-span underline underline-offset-2" onClick={() => setShown(h.name)}>{h.name}</button> : h.name) },
      { head: "Kind", by: (h) => h.kind, cell: (h) => h.kind },
      { head: "In lists", by: (h) => String(h.hidden), cell: (h) => (h.hidden ? "hidden" : "shown") },
      { head: "Seen", right: true, by: (h) => h.seen, cell: (h) => <span className="whitespace-nowrap">{ago(h.seen)}</span> },
      { head: "Note", wide: true, by: (h) => h.note ?? "", cell: (h) => <span className="text-soft">{h.note}</span> },
    ],
    [],
  );
  return (
    <Section title="Shares">
      <DataTable what="shares" query={shares} columns={columns} keyOf={(h) => h.name} empty="No share was seen yet; a check looks for them." />
      <Dialog open={shown !== undefined} onOpenChange={(open) => !open && setShown(undefined)} title={`${server}/${shown ?? ""}`}>
        <ShareLook server={server} share={shown} />
      </Dialog>
    </Section>
  );
}

/** A share as it is now. */
function ShareLook({ server, share }: { server: string; share: string | undefined }) {
  const query = useShare(server, share);
  if (query.isPending) return <Loading what="the share" />;
  if (!query.data) return <Trouble error={query.error} retry={() => void query.refetch()} />;
  const d = query.data;
  return (
    <div className="grid gap-4">
      <Facts
        facts={[
          ["Free", `${bytes(d.freeBytes)} of ${bytes(d.totalBytes)}`],
          ["Led to from", d.ledToFrom.length ? d.ledToFrom.map((path) => <Link key={path} className="mr-3 font-mono text-span underline underline-offset-2" to={`/namespaces/${path.split("/")[1]}`}>{path}</Link>) : "no signpost"],
          ["Permissions", <code key="d" className="text-xs break-all">{d.descriptor}</code>],
        ]}
      />
      {d.entries.length === 0 ? (
        <Empty>The share is empty.</Empty>
      ) : (
        <ul className="border-t border-line" aria-label="At its top">
          {d.entries.map((e) => (
            <li key={e.name} className="grid grid-cols-[minmax(0,1fr)_5rem_10rem] gap-3 border-b border-line py-1">
              <span className="truncate font-mono text-sm" title={e.name}>{e.name}{e.kind === "folder" && "/"}</span>
              <span className="text-right">{e.kind === "file" ? bytes(e.size) : ""}</span>
              <span className="text-right text-soft">{when(e.modified)}</span>
            </li>
          ))}
        </ul>
      )}
      {d.more && <p className="text-soft">There are more; {plural(d.entries.length, "entry", "entries")} are shown.</p>}
    </div>
  );
}

function RemoveServer({ server, open, onOpenChange }: { server: Server; open: boolean; onOpenChange: (open: boolean) => void }) {
  const navigate = useNavigate();
  const save = () => api.DELETE("/api/v1/servers/{server}", { params: { path: { server: server.name }, header: { "If-Match": etag(server.version) } } });
  return (
    <Dialog open={open} onOpenChange={onOpenChange} title={`Remove ${server.name}?`} lead="Bridge Span forgets it, its checks and its password. The server and its files are left alone. While signposts lead to it, it stays.">
      <SaveForm action="Remove" busy="Removing …" danger done={`${server.name} was removed.`} save={save} onDone={() => void navigate("/servers")} onCancel={() => onOpenChange(false)} />
    </Dialog>
  );
}
