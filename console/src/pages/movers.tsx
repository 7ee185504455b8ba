// The programs of movers: which are outdated, and how they are updated, by hand or in a weekly window.
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { useMovers, useMoverUpdates } from "../api/queries";
import { SaveForm } from "../components/form";
import { JobsSection } from "../components/jobs";
import { ended, RunProgress } from "../components/run";
import { Status, type Tone } from "../components/status";
import { DataTable, type Column } from "../components/table";
import { Button, Dialog, Section, TextField } from "../components/ui";
import { took } from "../format";

type Mover = Schemas["Mover"];
type Updated = Schemas["UpdatedMover"];

const tones: Record<Mover["state"], Tone> = { current: "good", outdated: "warn", unreachable: "bad" };
const updated: Record<Updated["state"], Tone> = { waiting: "none", "under-way": "none", updated: "good", current: "good", failed: "bad", skipped: "held" };

export function Movers() {
  const query = useMovers();
  const [params, setParams] = useSearchParams();
  const [doing, setDoing] = useState<{ servers: string[] } | "window">();
  const outdated = (query.data ?? []).filter((m) => m.state === "outdated" && !m.unable).map((m) => m.server);
  const columns = useMemo<Column<Mover>[]>(
    () => [
      { head: "Server", by: (m) => m.server, cell: (m) => <span className="font-medium">{m.server}</span> },
      { head: "Site", by: (m) => m.site, cell: (m) => m.site },
      { head: "Version", by: (m) => m.version ?? "", cell: (m) => m.version ?? "unknown" },
      { head: "Status", by: (m) => m.state, cell: (m) => <Status tone={tones[m.state]}>{m.state}</Status> },
      { head: "Edges", by: (m) => m.edges.join(), cell: (m) => m.edges.join(", ") },
      { head: "Problem", wide: true, by: (m) => m.problem ?? "", cell: (m) => <span className="break-words">{m.problem}</span> },
      { head: "Actions", cell: (m) => (m.state === "outdated" && !m.unable ? <Button look="quiet" onClick={() => setDoing({ servers: [m.server] })} aria-label={`Update ${m.server}`}>Update …</Button> : null) },
    ],
    [],
  );
  if (query.data?.length === 0) return null;
  const close = () => setDoing(undefined);
  const show = (run: number) => {
    close();
    setParams({ updates: String(run) });
  };
  return (
    <>
      <Section
        title="Movers"
        aside={<span className="flex gap-2"><Button disabled={outdated.length === 0} onClick={() => setDoing({ servers: [] })}>Update outdated …</Button><Button onClick={() => setDoing("window")}>Weekly window …</Button></span>}
      >
        <DataTable what="movers" query={query} columns={columns} keyOf={(m) => m.server} empty="No server has a mover." />
        <Updates run={Number(params.get("updates")) || undefined} />
      </Section>
      <JobsSection subject="movers" />
      <Dialog open={typeof doing === "object"} onOpenChange={close} title={typeof doing === "object" && doing.servers.length > 0 ? `Update ${doing.servers.join(", ")}?` : "Update the outdated movers?"} lead="The service sends its own program, signed. Movers are updated one after the other; readers of stubs wait meanwhile.">
        {typeof doing === "object" && <Confirm servers={doing.servers} outdated={outdated} onStarted={show} onCancel={close} />}
      </Dialog>
      <Dialog open={doing === "window"} onOpenChange={close} title="Update movers in a weekly window" lead="Outdated movers are updated at that time, one after the other.">
        {doing === "window" && <Window onClose={close} />}
      </Dialog>
    </>
  );
}

function Confirm({ servers, outdated, onStarted, onCancel }: { servers: string[]; outdated: string[]; onStarted: (run: number) => void; onCancel: () => void }) {
  const run = useRef(0);
  return (
    <SaveForm action="Update" onDone={() => onStarted(run.current)} onCancel={onCancel} save={async () => { run.current = (await got(api.POST("/api/v1/mover-updates", { body: { servers: servers.length > 0 ? servers : undefined } }))).run.id; }}>
      {() => <p>In this order: {(servers.length > 0 ? servers : outdated).join(", ")}. When one fails, those after it are left as they are.</p>}
    </SaveForm>
  );
}

function Window({ onClose }: { onClose: () => void }) {
  const [rule, setRule] = useState("sun 02:30");
  const [hours, setHours] = useState("2");
  const queries = useQueryClient();
  return (
    <SaveForm action="Save" done="The window was saved." fields={["rule", "forMin"]} onDone={() => { void queries.invalidateQueries({ queryKey: ["job"] }); onClose(); }} onCancel={onClose} save={() => api.POST("/api/v1/mover-update-jobs", { body: { rule, forMin: Math.round(60 * (Number(hours) || 0)) } })}>
      {(errors) => (
        <>
          <TextField label="When" value={rule} onChange={(e) => setRule(e.target.value)} error={errors.rule} help="Such as sun 02:30, or mon-fri 04:00." />
          <TextField label="Hours" inputMode="decimal" value={hours} onChange={(e) => setHours(e.target.value)} error={errors.forMin} help="No further update begins after so long. 0 for no limit." />
        </>
      )}
    </SaveForm>
  );
}

function Updates({ run }: { run?: number }) {
  const query = useMoverUpdates(run);
  const queries = useQueryClient();
  const over = query.data && ended(query.data.run);
  useEffect(() => {
    if (over) void queries.invalidateQueries({ queryKey: ["server", "movers"] });
  }, [over, queries]);
  if (!run || !query.data) return null;
  return (
    <div className="mt-4 grid gap-2">
      <h3 className="font-medium">Latest update</h3>
      {!over && <RunProgress run={query.data.run} />}
      {over && query.data.movers.length === 0 && <p className="text-soft">All movers were current.</p>}
      <ul className="border-t border-line">
        {query.data.movers.map((m) => (
          <li key={m.server} className="grid grid-cols-[10rem_8rem_6rem_minmax(0,1fr)] gap-x-3 border-b border-line py-1.5">
            <span className="font-medium">{m.server}</span>
            <Status tone={updated[m.state]}>{m.state === "under-way" ? "under way" : m.state}</Status>
            <span className="text-right text-soft">{m.tookMs ? took(m.tookMs) : ""}</span>
            <span className="break-words">{m.problem}</span>
          </li>
        ))}
      </ul>
    </div>
  );
}
