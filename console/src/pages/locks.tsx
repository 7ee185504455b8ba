// The write locks that people hold at the gateway.
import { useMemo, useState } from "react";
import { api, type GatewayLock } from "../api/client";
import { useLocks } from "../api/queries";
import { SaveForm } from "../components/form";
import { DataTable, type Column } from "../components/table";
import { Button, Dialog, PageHead } from "../components/ui";
import { ago, when } from "../format";

export function LocksPage() {
  const locks = useLocks();
  const [ending, setEnding] = useState<GatewayLock>();
  const columns = useMemo<Column<GatewayLock>[]>(
    () => [
      { head: "Path", wide: true, by: (l) => l.path, cell: (l) => <span className="font-mono break-all">{l.path}</span> },
      { head: "Held by", by: (l) => l.account, cell: (l) => l.account },
      { head: "Kind", by: (l) => kind(l), cell: (l) => kind(l) },
      { head: "Since", by: (l) => l.since, cell: (l) => <span title={when(l.since)}>{ago(l.since)}</span> },
      { head: "Until", by: (l) => l.until, cell: (l) => <span className="text-soft">{when(l.until)}</span> },
      { head: "Actions", cell: (l) => <Button look="quiet" onClick={() => setEnding(l)} aria-label={`End the lock on ${l.path}`}>End …</Button> },
    ],
    [],
  );
  const close = () => setEnding(undefined);
  return (
    <>
      <PageHead title="Locks" verdict={<span className="text-soft">Write locks that people hold through the gateway. A program takes one while it has a file open.</span>}>
        <Button onClick={() => void locks.refetch()}>Refresh</Button>
      </PageHead>
      <DataTable what="locks" query={locks} columns={columns} keyOf={(l) => String(l.id)} empty="Nobody holds a lock." />
      <Dialog open={ending !== undefined} onOpenChange={close} title="End this lock?" lead={`${ending?.account} holds ${ending?.path}. Others can change it from now on, and what ${ending?.account} has not saved yet may be refused.`}>
        {ending && <SaveForm action="End" danger done="The lock has ended." onDone={close} onCancel={close} save={() => api.DELETE("/api/v1/locks/{lock}", { params: { path: { lock: ending.id } } })} />}
      </Dialog>
    </>
  );
}

const kind = (l: GatewayLock) => `${l.shared ? "shared" : "exclusive"}${l.deep ? ", all below" : ""}`;
