// What a change would do, found out by rehearsing it: the service carries it
// out whole, tells, and takes it back.
import { useQuery } from "@tanstack/react-query";
import { got, type Schemas } from "../api/client";
import { Loading, Trouble } from "./ui";

export function Consequences({ of, ask }: { of: readonly unknown[]; ask: () => Promise<{ data?: unknown }> }) {
  const query = useQuery({ queryKey: ["rehearsal", ...of], queryFn: async () => (await got(ask())) as Schemas["Rehearsed"], retry: false, gcTime: 0, staleTime: 0 });
  if (query.isPending) return <Loading what="what this would change" />;
  if (query.error) return <Trouble error={query.error} />;
  return (
    <div role="status">
      <p className="font-medium">This would be changed:</p>
      <ul className="border-t border-line">
        {query.data.changes.map((c, i) => (
          <li key={i} className="border-b border-line py-0.5">
            <span className="font-medium">{c.action}</span> <code className="break-all">{c.subject}</code>
            {c.words.map((w) => <span key={w} className="block text-sm break-words text-soft">{w}</span>)}
          </li>
        ))}
      </ul>
    </div>
  );
}
