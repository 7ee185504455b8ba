import { useMemo, useState } from "react";
import type { Change } from "../api/client";
import { useChanges } from "../api/queries";
import { DataTable, type Column } from "../components/table";
import { Dialog, PageHead } from "../components/ui";
import { when } from "../format";

/** How many changes are shown; the command line and the API reach further back. */
const most = 1000;

export function ChangesPage() {
  const changes = useChanges(most);
  const [shown, setShown] = useState<Change>();
  const columns = useMemo<Column<Change>[]>(
    () => [
      { head: "When", by: (c) => c.at, cell: (c) => <span className="whitespace-nowrap">{when(c.at)}</span> },
      { head: "Who", by: (c) => c.who, cell: (c) => c.who },
      { head: "What", by: (c) => c.action, cell: (c) => <button className="text-span underline underline-offset-2" onClick={() => setShown(c)}>{c.action}</button> },
      { head: "To", wide: true, by: (c) => c.subject, cell: (c) => <code className="break-all">{c.subject}</code> },
    ],
    [],
  );
  return (
    <>
      <PageHead title="Changes" verdict={<span className="text-soft">Who changed what, newest first{changes.data?.length === most && `; the newest ${most} are shown, and bspan changes --limit reaches further back`}. Nothing is ever taken out of this list.</span>} />
      <DataTable what="changes" query={changes} columns={columns} keyOf={(c) => String(c.id)} empty="Nothing was changed yet." />
      <Dialog open={shown !== undefined} onOpenChange={(open) => !open && setShown(undefined)} title={shown?.subject ?? ""} lead={shown && `${shown.action} by ${shown.who}, ${when(shown.at)}`}>
        <div className="grid gap-3">
          <State title="Before" value={shown?.before} />
          <State title="After" value={shown?.after} />
        </div>
      </Dialog>
    </>
  );
}

function State({ title, value }: { title: string; value: unknown }) {
  return (
    <div>
      <h3 className="font-medium">{title}</h3>
      {value === undefined ? <p className="text-soft">Nothing.</p> : <pre className="max-h-64 overflow-auto bg-inset p-3 font-mono text-xs" tabIndex={0}>{JSON.stringify(value, null, 2)}</pre>}
    </div>
  );
}
