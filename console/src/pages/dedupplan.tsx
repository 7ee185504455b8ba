// When the work could be done, in the hours that business and backups leave free.
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../api/client";
import { FindingLines } from "../components/findinglines";
import { CalendarField } from "../components/week";
import { Button, Facts, Section, Trouble } from "../components/ui";
import { bytes, plural, when } from "../format";

const days = ["Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"];

export function PlanSection({ volume }: { volume: string }) {
  const [week, setWeek] = useState("off; 20-6 full; sat-sun full");
  const [backups, setBackups] = useState("off");
  const ask = useMutation({ mutationFn: () => got(api.POST("/api/v1/dedup/volumes/{volume}/plan", { params: { path: { volume } }, body: { week, backups } })) });
  const p = ask.data;
  return (
    <Section title="When it could be done" aside="nothing is begun: this is a plan">
      <div className="grid gap-x-10 gap-y-4 xl:grid-cols-2">
        <CalendarField label="Hours in which it may work" value={week} onChange={setWeek} />
        <CalendarField label="Hours in which backups work" value={backups} onChange={setBackups} />
      </div>
      <div className="mt-3"><Button disabled={ask.isPending} onClick={() => ask.mutate()}>{ask.isPending ? "Planning …" : "Plan it"}</Button></div>
      {ask.error && <div className="mt-3"><Trouble error={ask.error} /></div>}
      {p && (
        <div className="mt-4 grid gap-3">
          <p className="font-medium">{p.summary}</p>
          <FindingLines list={p.warnings} />
          <Facts
            facts={[
              ["Hours of a week", `${p.nights.weekHours}, in ${plural(p.nights.windows.length, "window")}: ${p.nights.windows.map((w) => `${days[w.day]} ${w.from}:00 for ${w.hours} h${w.pace === "full" ? "" : ` at ${w.pace} Mbit/s`}`).join(", ")}`],
              ["First pass", p.nights.first.done ? `${bytes(p.nights.first.bytes)}, done ${when(p.nights.first.done)}` : "never done"],
              ["Each later day", `${bytes(p.nights.later.bytes)} have changed`],
              ["Measured", `${Math.round(p.nights.rateMbit).toLocaleString("en")} Mbit/s, when it was read`],
              ["Processors", `${p.busyProcessors.toFixed(1)} of ${p.ofProcessors} busy at that speed; less in windows with a cap, in proportion`],
              ["Memory", `${bytes(p.memoryBytes)} for the index of all chunks`],
              ["For calendars", <a key="i" className="text-span underline underline-offset-2" download={`${volume}.ics`} href={`data:text/calendar;charset=utf-8,${encodeURIComponent(p.iCalendar)}`}>The windows as iCalendar (RFC 5545)</a>],
            ]}
          />
        </div>
      )}
    </Section>
  );
}
