// What estimates of a volume came to over time, and how long its free space lasts.
import type { EstimatedVolume, Schemas } from "../api/client";
import { SavingOverTime } from "../components/chart";
import { Status } from "../components/status";
import { Section } from "../components/ui";
import { bytes, plural } from "../format";

export function TrendSection({ v }: { v: EstimatedVolume }) {
  if (v.trend.length < 2) return null;
  return (
    <Section title="Over time" aside={`${plural(v.trend.length, "estimate")}, the oldest first`}>
      {v.runway ? <Runway r={v.runway} /> : <p className="mb-2 text-soft">How long the free space lasts is told once estimates are a day apart.</p>}
      <SavingOverTime points={v.trend} />
    </Section>
  );
}

const soon = 12; // weeks

function Runway({ r }: { r: Schemas["Runway"] }) {
  if (r.withoutWeeks === undefined) return <p className="mb-2"><Status tone="good">free space does not run out</Status> {r.growthBytes > 0 ? `It shrinks by ${bytes(r.growthBytes)} a week, which takes over ten years.` : "It does not shrink."}</p>;
  return (
    <p className="mb-2">
      <Status tone={r.withoutWeeks < soon ? "warn" : "good"}>free space reaches zero in {weeks(r.withoutWeeks)} as it is, {r.withWeeks === undefined ? "not within ten years" : `in ${weeks(r.withWeeks)}`} with what would be saved</Status>{" "}
      <span className="text-soft">It shrinks by {bytes(r.growthBytes)} a week; {bytes(r.freeBytes)} are left.</span>
    </p>
  );
}

const weeks = (n: number) => (n < 1 ? "less than a week" : plural(Math.floor(n), "week"));
