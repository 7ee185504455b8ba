import { useMemo, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, etag, type Server } from "../api/client";
import { useServers, useShares, useSites } from "../api/queries";
import { SaveForm } from "../components/form";
import { outcomeTone, Status } from "../components/status";
import { DataTable, type Column } from "../components/table";
import { Button, Check, Dialog, Field, PageHead, Select, TextField } from "../components/ui";
import { ago } from "../format";
import { AccountMaps } from "./accountmaps";
import { Movers } from "./movers";
import { Domains } from "./domains";

export function ServersPage() {
  const servers = useServers();
  const shares = useShares();
  const [adding, setAdding] = useState(false);
  const columns = useMemo<Column<Server>[]>(
    () => [
      { head: "Name", by: (v) => v.name, cell: (v) => <Link className="font-medium text-span underline underline-offset-2" to={`/servers/${encodeURIComponent(v.name)}`}>{v.name}</Link> },
      { head: "Reached by", by: (v) => v.kind, cell: (v) => kinds[v.kind].short },
      { head: "Site", by: (v) => v.site, cell: (v) => <span className="whitespace-nowrap">{v.site}</span> },
      { head: "State", by: (v) => String(v.reachable), cell: (v) => <Reach server={v} /> },
      { head: "Last check", by: (v) => v.check?.outcome ?? "", cell: (v) => (v.check ? <Status tone={outcomeTone(v.check.outcome)}>{v.check.outcome}, {ago(v.check.at)}</Status> : <Status tone="none">never</Status>) },
      { head: "Shares", right: true, by: (v) => count(v), cell: (v) => count(v) },
      { head: "Address", by: (v) => v.address, cell: (v) => <code>{v.address}:{v.port}</code> },
      { head: "Note", wide: true, by: (v) => v.note ?? "", cell: (v) => <span className="text-soft">{v.note}</span> },
    ],
    // eslint-disable-next-line react-hooks/exhaustive-deps -- count reads shares
    [shares.data],
  );
  function count(v: Server) {
    return shares.data?.filter((h) => h.server === v.name && !h.hidden).length ?? 0;
  }
  const silent = servers.data?.filter((v) => v.reachable === false) ?? [];
  const add = <Button look="main" onClick={() => setAdding(true)}>Add a server</Button>;
  return (
    <>
      <PageHead title="Servers" verdict={servers.data && servers.data.length > 0 && (silent.length ? <Status tone="bad">{silent.map((v) => v.name).join(", ")} {silent.length === 1 ? "does" : "do"} not answer.</Status> : <Status tone="good">{servers.data.length === 1 ? "It answers" : `All ${servers.data.length} answer`}.</Status>)}>
        {add}
      </PageHead>
      <DataTable what="servers" query={servers} columns={columns} keyOf={(v) => v.name} empty="No server is known yet." emptyAction={add} />
      <AddServer open={adding} onOpenChange={setAdding} />
      <div className="mt-8"><Movers /></div>
      <Domains />
      <AccountMaps />
    </>
  );
}

export function Reach({ server }: { server: Server }) {
  const since = server.since ? `, since ${ago(server.since)}` : "";
  if (server.untrusted) return <Status tone="bad">untrusted answers{since}</Status>;
  if (server.reachable === undefined) return <Status tone="none">not looked at yet</Status>;
  return server.reachable ? <Status tone="good">answers</Status> : <Status tone="bad">does not answer{since}</Status>;
}

function AddServer({ open, onOpenChange }: { open: boolean; onOpenChange: (open: boolean) => void }) {
  const navigate = useNavigate();
  const close = () => onOpenChange(false);
  return (
    <Dialog open={open} onOpenChange={onOpenChange} title="Add a server" lead="Bridge Span signs in to it first; when that fails nothing is stored. Nothing is installed on a file server that is reached by SMB.">
      <ServerForm onClose={close} onDone={(name) => void navigate(`/servers/${encodeURIComponent(name)}`)} />
    </Dialog>
  );
}

/** What servers are reached by. */
const kinds: Record<Server["kind"], { short: string; label: string; help: string; port: string }> = {
  smb: { short: "SMB", label: "SMB", help: "Any SMB 3 file server.", port: "445" },
  mover: { short: "mover", label: "A mover on that host", help: "A mover runs on that host and serves folders of it: bspand mover. It says its certificate when it starts.", port: "8620" },
  cloud: { short: "cloud", label: "S3 object service", help: "An account at an S3 object service. Its buckets are its shares.", port: "443" },
};

const priceText = (price?: number) => (price ? String(price) : "");
/** What is no number becomes −1, which the service refuses. */
const priceOf = (text: string) => {
  const price = Number(text.replace(",", ".") || 0);
  return Number.isNaN(price) ? -1 : price;
};

/** Adds a server, or changes one. */
export function ServerForm({ server, onClose, onDone }: { server?: Server; onClose: () => void; onDone: (name: string) => void }) {
  const sites = useSites();
  const [kind, setKind] = useState<Server["kind"]>(server?.kind ?? "smb");
  const [v, setV] = useState({ name: server?.name ?? "", site: server?.site ?? "", address: server?.address ?? "", port: server ? String(server.port) : "", domain: server?.domain ?? "", account: server?.account ?? "", certificate: server?.certificate ?? "", beside: server?.beside ?? "", password: "", note: server?.note ?? "", nameForPeople: server?.nameForPeople ?? "", region: server?.cloud?.region ?? "", currency: server?.cloud?.currency ?? "", stored: priceText(server?.cloud?.storedPrice), out: priceText(server?.cloud?.outPrice) });
  const [unsigned, setUnsigned] = useState(server?.unsigned ?? false);
  const [viewersBrowse, setViewersBrowse] = useState(server?.viewersBrowse ?? false);
  const mover = kind === "mover", cloud = kind === "cloud";
  const [proxy, setProxy] = useState(server?.cloud?.proxy ?? "");
  const [proxyPassword, setProxyPassword] = useState("");
  const [pathStyle, setPathStyle] = useState(server?.cloud?.pathStyle ?? false);
  const [plain, setPlain] = useState(server?.cloud?.plain ?? false);
  const set = (name: keyof typeof v) => (event: { target: { value: string } }) => setV({ ...v, [name]: event.target.value });
  const save = () => {
    const { domain, account, certificate, beside, region, currency, stored, out, ...common } = v;
    const signedProxy = cloud && proxy.includes("@") ? { proxyPassword: proxyPassword || undefined } : {};
    const own = mover ? { certificate, beside } : cloud ? { account, cloud: { ...server?.cloud, region, pathStyle, plain, proxy: proxy.trim() || undefined, currency, storedPrice: priceOf(stored), outPrice: priceOf(out) } } : { domain, account, unsigned, viewersBrowse };
    const body = { ...common, port: Number(v.port) || undefined, ...own, ...signedProxy };
    return server
      ? api.PATCH("/api/v1/servers/{server}", { params: { path: { server: server.name }, header: { "If-Match": etag(server.version) } }, body: { ...body, password: v.password || undefined } })
      : api.POST("/api/v1/servers", { body: { ...body, domain: (kind === "smb" && domain) || undefined, note: v.note || undefined, nameForPeople: v.nameForPeople || undefined } });
  };
  const done = () => {
    onClose();
    onDone(v.name);
  };
  const passwordHelp = `${mover ? "From its file mover.secret. " : ""}${server ? "Empty keeps the old one" : "Kept sealed, never shown again"}`;
  return (
    <SaveForm action={server ? "Save" : "Sign in and add"} busy="Signing in to it …" done={`${v.name} was ${server ? "changed" : "added"}.`} fields={[...Object.keys(v), "cloud.proxy", ...(proxy.includes("@") ? ["proxyPassword"] : []), "cloud.region", "cloud.currency", "cloud.storedPrice", "cloud.outPrice"]} save={save} onDone={done} onCancel={onClose}>
      {(errors) => (
        <div className="grid grid-cols-2 gap-4">
          {!server && (
            <div className="col-span-2">
              <Field label="Reached by" help={kinds[kind].help}>
                {(props) => <Select {...props} value={kind} onChange={(k) => setKind(k as Server["kind"])} options={Object.entries(kinds).map(([value, k]) => ({ value, label: k.label }))} />}
              </Field>
            </div>
          )}
          <TextField label="Name" value={v.name} onChange={set("name")} error={errors.name} autoFocus />
          <Field label="Site" error={errors.site} help={sites.data?.length === 0 ? "Add a site first." : undefined}>
            {(props) => <Select {...props} value={v.site} onChange={(site) => setV({ ...v, site })} placeholder="Where it stands" options={(sites.data ?? []).map((s) => ({ value: s.name, label: s.name }))} />}
          </Field>
          <TextField label="Address" mono value={v.address} onChange={set("address")} error={errors.address} />
          <TextField label="Port" mono inputMode="numeric" value={v.port} onChange={set("port")} error={errors.port} placeholder={kinds[kind].port} />
          {mover ? (
            <div className="col-span-2">
              <TextField label="Certificate" mono value={v.certificate} onChange={set("certificate")} error={errors.certificate} help="The fingerprint: 64 hexadecimal digits" autoComplete="off" />
            </div>
          ) : (
            <TextField label={cloud ? "Access key" : "Account"} value={v.account} onChange={set("account")} error={errors.account} help={cloud ? "Of the account at the object service" : "One that administers the server"} autoComplete="off" />
          )}
          <TextField label={kind === "smb" ? "Password" : "Secret"} type="password" value={v.password} onChange={set("password")} error={errors.password} help={passwordHelp} autoComplete="new-password" />
          {cloud && <TextField label="Region" mono value={v.region} onChange={set("region")} error={errors["cloud.region"] ?? errors.region} help="Region of the buckets, as the provider names it" />}
          {cloud && <TextField label="Currency" value={v.currency} onChange={set("currency")} error={errors["cloud.currency"]} help="Such as EUR. Empty: prices are unknown." />}
          {cloud && <TextField label="Storage price per GB and month" inputMode="decimal" value={v.stored} onChange={set("stored")} error={errors["cloud.storedPrice"]} help="From your contract." />}
          {cloud && <TextField label="Read price per GB" inputMode="decimal" value={v.out} onChange={set("out")} error={errors["cloud.outPrice"]} />}
          {kind === "smb" && <TextField label="Domain" value={v.domain} onChange={set("domain")} error={errors.domain} help="Empty for the server's own account" />}
          {mover && <TextField label="File server beside" value={v.beside} onChange={set("beside")} error={errors.beside} help="On the same host, sharing the same folders. Permissions there name its accounts." />}
          {!cloud && <TextField label="Name for people" mono value={v.nameForPeople} onChange={set("nameForPeople")} error={errors.nameForPeople} help="By which people's machines reach it; empty: its address" />}
          <TextField label="Note" value={v.note} onChange={set("note")} error={errors.note} />
          {cloud && (
            <div className="col-span-2 grid gap-3">
              <Check label="Use TLS" checked={!plain} onChange={(tls) => setPlain(!tls)} help="Without it, traffic can be read on the network." />
              <TextField label="Proxy" mono value={proxy} placeholder="none" onChange={(e) => setProxy(e.target.value)} error={errors["cloud.proxy"]} help="HTTP proxy to the service, such as http://proxy.example.org:3128, or http://USER@HOST:PORT where it asks for a password. A mover that was started with a proxy of its own uses that." />
              {proxy.includes("@") && <TextField label="Proxy password" type="password" value={proxyPassword} onChange={(e) => setProxyPassword(e.target.value)} error={errors.proxyPassword} help={server ? "Empty keeps the old one" : "Kept sealed, never shown again"} autoComplete="new-password" />}
              <Check label="Path-style addresses" checked={pathStyle} onChange={setPathStyle} help="For services that do not put the bucket into the host name." />
            </div>
          )}
          {kind === "smb" && (
            <div className="col-span-2 grid gap-3">
              <Check label="Require signed messages" checked={!unsigned} onChange={(signed) => setUnsigned(!signed)} help="Without it, whoever is between Bridge Span and the server can change files and permissions on their way." />
              <Check label="Viewers may browse" checked={viewersBrowse} onChange={setViewersBrowse} help="They look into all folders with the account above, hidden shares too. Without it, only operators and administrators do." />
            </div>
          )}
        </div>
      )}
    </SaveForm>
  );
}
