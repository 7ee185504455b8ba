// An estimate that is under way: what it found, read and saved so far.
import type { Run } from "../api/client";
import { useEstimate } from "../api/queries";
import { ended, RunProgress } from "../components/run";
import { Facts, Section } from "../components/ui";
import { bytes, percent, plural } from "../format";

export function ProgressSection({ run }: { run: Run }) {
  const live = useEstimate(run.id, false);
  const p = live.data?.run.id === run.id ? live.data.progress : undefined;
  return (
    <Section title={ended(run) ? "The last estimate" : "Under way"}>
      <RunProgress run={run} />
      {p && p.files > 0 && (
        <div className="mt-3 grid gap-x-10 gap-y-1 lg:grid-cols-2">
          <Facts
            facts={[
              ["Found", `${bytes(p.bytes)} in ${plural(p.files, "file")}`],
              ["To be read", p.toReadBytes > 0 ? bytes(p.toReadBytes) : "nothing: nothing has changed"],
            ]}
          />
          <Facts
            facts={[
              ["Read", `${bytes(p.readBytes)} in ${plural(p.read, "file")}${p.readMs > 0 ? `, ${bytes((p.readBytes * 1000) / p.readMs)}/s` : ""}`],
              ["There already", p.readBytes > 0 ? `${bytes(p.savedBytes)}, ${percent(p.savedBytes / p.readBytes)} of what was read now; before compression` : "nothing yet"],
            ]}
          />
        </div>
      )}
    </Section>
  );
}
