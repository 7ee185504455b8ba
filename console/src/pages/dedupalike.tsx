// Files of a volume that are equal, or have much in common, and the chunks they share most.
import type { Found } from "../api/client";
import { Empty, Section } from "../components/ui";
import { bytes, percent, plural } from "../format";

export function AlikeSection({ found }: { found: Found }) {
  return (
    <div className="grid gap-x-10 lg:grid-cols-2">
      <Section title="Equal files" aside="the sets that spare most">
        {found.twins.length === 0 && <Empty>No two files are equal.</Empty>}
        <ul className="border-t border-line">
          {found.twins.slice(0, 12).map((s) => (
            <li key={s.paths.join()} className="border-b border-line py-1">
              {plural(s.files, "file")} of {bytes(s.size)}, spare <span className="font-medium">{bytes(s.spares)}</span>
              {s.paths.slice(0, 3).map((p) => <code key={p} className="block text-sm break-all text-soft">{p}</code>)}
            </li>
          ))}
        </ul>
      </Section>
      <Section title="Nearly equal files" aside="two that have much in common">
        {found.where.near.length === 0 && <Empty>No two files have much in common.</Empty>}
        <ul className="border-t border-line">
          {found.where.near.slice(0, 12).map((n) => (
            <li key={n.a + n.b} className="border-b border-line py-1">
              <span className="font-medium">{bytes(n.common)}</span> in common, {percent(n.part)} of the smaller
              <code className="block text-sm break-all text-soft">{n.a}</code>
              <code className="block text-sm break-all text-soft">{n.b}</code>
            </li>
          ))}
        </ul>
      </Section>
      <Section title="Most shared chunks" aside="before compression">
        {found.where.popular.length === 0 && <Empty>No chunk occurs twice.</Empty>}
        <ul className="border-t border-line">
          {found.where.popular.slice(0, 12).map((c) => (
            <li key={c.print} className="border-b border-line py-1">
              {bytes(c.length)}, {c.times.toLocaleString("en")} times, spares <span className="font-medium">{bytes(c.spares)}</span> <code className="text-sm text-soft">{c.print.slice(0, 16)}</code>
              {c.paths.map((p) => <code key={p} className="block text-sm break-all text-soft">{p}</code>)}
            </li>
          ))}
        </ul>
      </Section>
    </div>
  );
}
