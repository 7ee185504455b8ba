// Is anything wrong, what does it mean for people, what is to be done: then the numbers.
import { Link } from "react-router";
import type { Entry, Front, Leg, ReplicaSet, Server, Site, Namespace } from "../api/client";
import { useAbout, useFronts, useInNeed, useChanges, useLegs, useNamespaces, useReplicaSets, useServers, useSites } from "../api/queries";
import { setPage } from "../components/replica";
import { SpanStrip } from "../components/span";
import { Status, type Tone } from "../components/status";
import { Empty, Loading, PageHead, Section, Trouble } from "../components/ui";
import { ago, plural, target } from "../format";
import { unc } from "./fronts";

type Finding = { tone: Tone; text: string; means: string; to: string; action: string };

export function OverviewPage() {
  const servers = useServers();
  const sites = useSites();
  const legs = useLegs();
  const namespaces = useNamespaces();
  const lists = useInNeed(namespaces.data?.map((n) => n.name));
  const sets = useReplicaSets();
  const fronts = useFronts();
  const failed = [servers, sites, legs, namespaces, lists, sets].find((q) => q.error && !q.data);
  if (failed) return <Trouble error={failed.error} retry={() => void failed.refetch()} />;
  if (!servers.data || !sites.data || !legs.data || !namespaces.data || !lists.data || !sets.data) return <Loading what="the estate" />;
  if (servers.data.length === 0) return <FirstSteps sites={sites.data.length} />;
  const findings = [...serverFindings(servers.data), ...lists.data.flatMap(({ namespace, entries }) => entryFindings(namespace, entries)), ...setFindings(sets.data), ...frontFindings(fronts.data?.fronts ?? [])];
  const worst = findings.some((f) => f.tone === "bad") ? "bad" : findings.length ? "warn" : "good";
  return (
    <>
      <PageHead title="Overview" verdict={<Verdict worst={worst} findings={findings} />} />
      {findings.length > 0 && <Findings findings={findings} />}
      <Section title="Sites and the legs between them" aside={`${plural(sites.data.length, "site")}, ${plural(servers.data.length, "server")}`}>
        <Legs legs={legs.data} sites={sites.data} servers={servers.data} />
      </Section>
      <div className="grid gap-x-10 xl:grid-cols-2">
        <Section title="Namespaces">
          <NamespaceList namespaces={namespaces.data} lists={lists.data} />
        </Section>
        <Section title="Latest changes" aside={<Link className="text-span underline underline-offset-2" to="/changes">All changes</Link>}>
          <Latest />
        </Section>
      </div>
    </>
  );
}

function Verdict({ worst, findings }: { worst: Tone; findings: Finding[] }) {
  const bad = findings.filter((f) => f.tone === "bad").length;
  if (worst === "good") return <Status tone="good">Nothing needs you: every server answers and every signpost leads somewhere.</Status>;
  if (worst === "bad") return <Status tone="bad">{plural(bad, "thing")} {bad === 1 ? "needs" : "need"} you now.</Status>;
  return <Status tone="warn">People are served; {plural(findings.length, "thing")} to look at when there is time.</Status>;
}

function serverFindings(servers: Server[]): Finding[] {
  return servers.flatMap((v) => {
    const to = `/servers/${encodeURIComponent(v.name)}`;
    const unsigned: Finding[] = v.unsigned ? [{ tone: "warn", text: `${v.name}: messages may pass unsigned`, means: "whoever is between can change files and permissions on their way", to, action: "Require signing" }] : [];
    if (v.untrusted) return [{ tone: "bad" as const, text: `${v.name} at ${v.site} sent answers that cannot be trusted`, means: `since ${ago(v.untrusted)}; it is used for nothing until it is checked, or an hour has passed`, to, action: "See why" }];
    if (v.reachable === false) return [{ tone: "bad" as const, text: `${v.name} at ${v.site} does not answer`, means: `since ${ago(v.since ?? "")}; people are led past it where another location is open`, to, action: "See why" }];
    const lines = v.check?.lines.filter((l) => l.severity !== "pass" && !(v.unsigned && l.code === "signing")) ?? [];
    if (lines.length === 0) return unsigned;
    const failed = lines.filter((l) => l.severity === "fail");
    const told = (failed.length ? failed : lines).map((l) => `${l.code} ${l.found}`).join("; ");
    return [...unsigned, { tone: failed.length ? ("bad" as const) : ("warn" as const), text: `${v.name}: ${told}`, means: (failed[0] ?? lines[0])?.meaning ?? "", to, action: "See the check" }];
  });
}

function entryFindings(namespace: string, entries: Entry[]): Finding[] {
  const to = (e: Entry) => `/namespaces/${namespace}?entry=${e.id}`;
  return entries.flatMap((e): Finding[] => {
    const path = `/${namespace}/${e.path}`;
    const locations = e.locations ?? [];
    if (e.kind !== "signpost") return [];
    const held = locations.filter((l) => l.state === "held");
    if (!locations.some((l) => l.state === "open")) {
      const [only] = locations;
      const why = locations.length === 1 && only ? `its only location, ${target(only)}, is ${only.state}` : `none of its ${locations.length} locations is open`;
      return [{ tone: "bad", text: `${path} leads nowhere`, means: `${why}, so people cannot reach it`, to: to(e), action: held.length ? "Open it" : "See why" }];
    }
    return held.map((l) => ({ tone: "warn" as const, text: `${path}: ${target(l)} is held`, means: l.why || "kept from people by hand", to: to(e), action: "Look at it" }));
  });
}

/** What needs somebody about replica sets: one line a set, the worst of it told. */
function setFindings(sets: ReplicaSet[]): Finding[] {
  return sets.flatMap((set): Finding[] => {
    const [worst] = set.alerts;
    if (!worst) return [];
    const bad = worst.severity === "fail";
    const more = set.alerts.length > 1 ? `, and ${plural(set.alerts.length - 1, "more thing")}` : "";
    return [{ tone: bad ? "bad" : "warn", text: `${set.name}, ${worst.subject}: ${worst.found}${more}`, means: worst.meaning ?? "", to: setPage(set.name), action: "See the set" }];
  });
}

/** Fronts that are not what their namespace says. */
function frontFindings(fronts: Front[]): Finding[] {
  return fronts.flatMap((f): Finding[] => {
    const to = `/namespaces/${f.namespace}`;
    if (f.state === "away") return [{ tone: "bad", text: `the front ${unc(f)} is away`, means: `${f.trouble ?? ""}; people are led as it was last written`, to, action: "See the front" }];
    if (f.state === "failing") return [{ tone: "bad", text: `the front ${unc(f)} cannot be written`, means: f.trouble ?? "", to, action: "See the front" }];
    if (f.check?.outcome === "fail") return [{ tone: "bad", text: `the front ${unc(f)}: ${f.check.lines[0]?.found ?? ""}`, means: f.check.lines[0]?.meaning ?? "", to, action: "See the front" }];
    return [];
  });
}

function Findings({ findings }: { findings: Finding[] }) {
  const ordered = [...findings].sort((a, b) => (a.tone === b.tone ? 0 : a.tone === "bad" ? -1 : 1));
  return (
    <ul className="mb-8 border-t border-line" aria-label="What needs somebody">
      {ordered.map((f) => (
        <li key={f.text} className="flex flex-wrap items-baseline gap-x-4 border-b border-line py-1.5">
          <span className="min-w-0 flex-1">
            <Status tone={f.tone}>{f.text}</Status>
            <span className="text-soft">: {f.means}</span>
          </span>
          <Link to={f.to} className="text-span underline underline-offset-2">
            {f.action}
          </Link>
        </li>
      ))}
    </ul>
  );
}

function Legs({ legs, sites, servers }: { legs: Leg[]; sites: Site[]; servers: Server[] }) {
  if (legs.length === 0) return <Empty>{sites.length < 2 ? "There is one site, so nothing lies between." : "No sites are linked yet, so directions cannot tell near from far."}</Empty>;
  const down = (site: string) => servers.filter((v) => v.site === site && v.reachable === false).length;
  return (
    <div className="grid gap-5">
      {legs.map((leg) => (
        <SpanStrip
          key={leg.from + leg.to}
          from={<Shore name={leg.from} servers={servers} />}
          to={<Shore name={leg.to} servers={servers} />}
          deck={down(leg.from) + down(leg.to) > 0 && allDown(leg, servers) ? "failing" : "open"}
          mbit={leg.mbit}
          figure={`${leg.mbit} Mbit/s · ${leg.rttMs} ms · cost ${leg.cost}`}
          label={`${leg.from} and ${leg.to} are linked at ${leg.mbit} Mbit/s, ${leg.rttMs} ms, cost ${leg.cost}`}
        />
      ))}
    </div>
  );
}

/** Whether no server at one of the ends answers: then the leg itself is suspected. */
function allDown(leg: Leg, servers: Server[]): boolean {
  return [leg.from, leg.to].some((site) => {
    const there = servers.filter((v) => v.site === site);
    return there.length > 0 && there.every((v) => v.reachable === false);
  });
}

function Shore({ name, servers }: { name: string; servers: Server[] }) {
  const there = servers.filter((v) => v.site === name);
  return (
    <span className="inline-block w-28 leading-tight">
      <span className="block truncate font-semibold" title={name}>
        {name}
      </span>
      <span className="block truncate text-xs text-soft">
        {there.length === 0
          ? "no servers"
          : there.map((v, i) => (
              <span key={v.name}>
                {i > 0 && ", "}
                <span className={v.reachable === false ? "font-semibold text-bad line-through" : ""}>{v.name}</span>
              </span>
            ))}
      </span>
    </span>
  );
}

function NamespaceList({ namespaces, lists }: { namespaces: Namespace[]; lists: { namespace: string; entries: Entry[] }[] }) {
  const about = useAbout();
  if (namespaces.length === 0) return <Empty action={<Link className="text-span underline" to="/namespaces">Make one</Link>}>People have no namespace yet.</Empty>;
  return (
    <ul>
      {namespaces.map(({ name: namespace, signposts }) => {
        const locations = lists.find((l) => l.namespace === namespace)?.entries.flatMap((e) => e.locations ?? []) ?? [];
        const count = (state: string) => locations.filter((l) => l.state === state).length;
        return (
          <li key={namespace} className="border-b border-line py-1.5">
            <div className="flex items-baseline justify-between gap-4">
              <Link to={`/namespaces/${namespace}`} className="font-mono font-medium text-span underline underline-offset-2">
                /{namespace}
              </Link>
              <span>{plural(signposts, "signpost")}</span>
            </div>
            <div className="flex flex-wrap gap-x-4 text-sm">
              {count("held") + count("failing") === 0 && <Status tone="good">every location is open</Status>}
              {count("held") > 0 && <Status tone="held">{count("held")} held</Status>}
              {count("failing") > 0 && <Status tone="bad">{count("failing")} failing</Status>}
              {about.data?.gateway && <span className="text-soft">people reach it at <code>{about.data.gateway}/{namespace}/</code></span>}
            </div>
          </li>
        );
      })}
    </ul>
  );
}

function Latest() {
  const changes = useChanges(7);
  if (!changes.data) return changes.error ? <Trouble error={changes.error} /> : <Loading what="changes" />;
  return (
    <ul>
      {changes.data.map((c) => (
        <li key={c.id} className="flex items-baseline gap-3 border-b border-line py-1.5">
          <span className="w-20 shrink-0 text-right text-sm text-soft">{ago(c.at)}</span>
          <span className="min-w-0 truncate">
            {c.who} <span className="text-soft">{c.action}</span> <code title={c.subject}>{c.subject}</code>
          </span>
        </li>
      ))}
    </ul>
  );
}

function FirstSteps({ sites }: { sites: number }) {
  return (
    <>
      <PageHead title="Overview" verdict="Nothing is here yet." />
      <ol className="grid max-w-xl list-decimal gap-3 pl-5">
        <li className={sites ? "text-soft line-through" : ""}>
          <Link className="text-span underline underline-offset-2" to="/sites">Add your sites</Link>, and the legs between them.
        </li>
        <li>
          <Link className="text-span underline underline-offset-2" to="/servers">Add your file servers</Link>: Bridge Span signs in, lists their shares and checks them.
        </li>
        <li>
          <Link className="text-span underline underline-offset-2" to="/namespaces">Make a namespace</Link>: one path for people, whatever server holds the data.
        </li>
      </ol>
    </>
  );
}
