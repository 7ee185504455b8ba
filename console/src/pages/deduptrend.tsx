// What estimates of a volume came to over time, and how long its free space lasts.
import { useState } from "react";
import { api, got, type EstimatedVolume, type Policy, type Schemas } from "../api/client";
import { SavingOverTime } from "../components/chart";
import { SaveForm } from "../components/form";
import { JobsSection } from "../components/jobs";
import { Status } from "../components/status";
import { Button, Dialog, Section, TextField } from "../components/ui";
import { bytes, plural } from "../format";

export function TrendSection({ v, policy }: { v: EstimatedVolume; policy?: Policy }) {
  const [scheduling, setScheduling] = useState(false);
  return (
    <>
      <Section title="Over time" aside={<Button look="quiet" onClick={() => setScheduling(true)}>Estimate again and again …</Button>}>
        {v.runway ? <Runway r={v.runway} /> : <p className="mb-2 text-soft">How long the free space lasts is told once estimates are a day apart.</p>}
        {v.trend.length > 1 && <SavingOverTime points={v.trend} />}
      </Section>
      <JobsSection subject={v.name} />
      <Dialog open={scheduling} onOpenChange={setScheduling} title={`Estimate ${v.name} again and again`} lead="What has not changed since it was read is not read again.">
        {scheduling && <Schedule v={v} policy={policy} onClose={() => setScheduling(false)} />}
      </Dialog>
    </>
  );
}

function Schedule({ v, policy, onClose }: { v: EstimatedVolume; policy?: Policy; onClose: () => void }) {
  const [rule, setRule] = useState("sat 02:30");
  return (
    <SaveForm action="Save" done="It is done again and again from now on." fields={["rule"]} onDone={onClose} onCancel={onClose}
      save={() => got(api.POST("/api/v1/dedup/estimates/jobs", { body: { name: v.name, policy, priority: "low", rule } }))}>
      {(errors) => <TextField label="When" value={rule} onChange={(e) => setRule(e.target.value)} error={errors.rule} help="Such as sat 02:30, daily 04:00, or every 12h. It reads one file at a time, under the policy of this estimate." />}
    </SaveForm>
  );
}

const soon = 12; // weeks

function Runway({ r }: { r: Schemas["Runway"] }) {
  if (r.withoutWeeks === undefined) return <p className="mb-2"><Status tone="good">free space does not run out</Status> {r.growthBytes > 0 ? `It shrinks by ${bytes(r.growthBytes)} a week, which takes over ten years.` : "It does not shrink."}</p>;
  return (
    <p className="mb-2">
      <Status tone={r.withoutWeeks < soon ? "warn" : "good"}>free space {runwayWords(r)}</Status>{" "}
      <span className="text-soft">It shrinks by {bytes(r.growthBytes)} a week; {bytes(r.freeBytes)} are left.</span>
    </p>
  );
}

/** When free space reaches zero. */
export function runwayWords(r: Schemas["Runway"]) {
  if (r.withoutWeeks === undefined) return "does not run out";
  return `reaches zero in ${weeks(r.withoutWeeks)} as it is, ${r.withWeeks === undefined ? "not within ten years" : `in ${weeks(r.withWeeks)}`} with what would be saved`;
}

const weeks = (n: number) => (n < 1 ? "less than a week" : plural(Math.floor(n), "week"));
