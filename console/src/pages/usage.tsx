// What a cloud set stores in its bucket and has read out of it, and what that costs.
import { useQuery } from "@tanstack/react-query";
import { api, got, type ReplicaSet } from "../api/client";
import { Facts, Loading, Section, Trouble } from "../components/ui";
import { bytes, money, plural, when } from "../format";

/** Walks all records of the bucket, so events of the set do not renew it. */
export function useUsage(set: ReplicaSet, enabled: boolean) {
  return useQuery({ queryKey: ["usage", set.name], enabled, staleTime: 60_000, queryFn: () => got(api.GET("/api/v1/replica-sets/{set}/usage", { params: { path: { set: set.name } } })) });
}

export function CloudUsage({ set }: { set: ReplicaSet }) {
  const query = useUsage(set, true);
  const u = query.data;
  if (query.isPending) return <Section title="Costs"><Loading what="the figures of the bucket" /></Section>;
  if (!u) return <Section title="Costs"><Trouble error={query.error} retry={() => void query.refetch()} /></Section>;
  return (
    <Section title="Costs" aside={u.currency ? undefined : "Enter prices in the cloud account, under Servers"}>
      <Facts
        facts={[
          ["Stored", `${plural(u.files, "file")}, ${bytes(u.bytes)}${u.earlier > 0 ? `, and ${plural(u.earlier, "earlier version")}, ${bytes(u.earlierBytes)}` : ""}: ${money(u.stored, u.currency, "per month")}`],
          ...u.edges.map((e) => [`Reads by ${e.replica}`, `${bytes(e.carried)} since ${when(u.since)}${e.fetched > 0 ? `, and ${bytes(e.fetchedBytes)} for ${plural(e.fetched, "stub")} since its mover started` : ""}: ${money(e.cost, u.currency)}${e.problem ? ` (${e.problem})` : ""}`] as [string, string]),
          ...u.edges.flatMap((e) => (e.months[0] ? [[`Reads by ${e.replica}, by month`, e.months.slice(0, 3).map((m) => `${m.month}: ${bytes(m.bytes)}, ${money(m.cost, u.currency)}`).join("; ")] as [string, string]] : [])),
          ...u.edges.flatMap((e) => (e.prefetched ? [[`Prefetched by ${e.replica}`, `${plural(e.prefetched.files, "file")}, ${bytes(e.prefetched.bytes)}, within 30 days, ${e.prefetched.used.toLocaleString("en")} used: ${money(e.prefetched.cost, u.currency)}${e.prefetched.advice ? `; ${e.prefetched.advice}` : ""}`] as [string, string]] : [])),
          ["Full verification", `reads ${bytes(u.fullReads * u.bytes)}: ${money(u.fullReads * u.readAll, u.currency)}`],
        ]}
      />
    </Section>
  );
}
