// What people are signed in with: sessions of the console, and tokens of the command line.
import { useMemo, useState } from "react";
import { api, type Credential } from "../api/client";
import { useCredentials, useSession } from "../api/queries";
import { SaveForm } from "../components/form";
import { DataTable, type Column } from "../components/table";
import { Button, Check, Dialog, PageHead } from "../components/ui";
import { ago, when } from "../format";

export function SignInsPage() {
  const me = useSession().data?.user;
  const [everybody, setEverybody] = useState(false);
  const held = useCredentials(everybody);
  const [ending, setEnding] = useState<Credential>();
  const columns = useMemo<Column<Credential>[]>(
    () => [
      ...(everybody ? [{ head: "User", by: (c: Credential) => c.user, cell: (c: Credential) => c.user }] : []),
      { head: "Kind", by: (c) => c.kind, cell: (c) => <>{c.kind}{c.current && <span className="text-soft"> (this one)</span>}</> },
      { head: "Label", wide: true, by: (c) => c.label ?? "", cell: (c) => <span className="block max-w-80 truncate" title={c.label}>{c.label}</span> },
      { head: "Last used", by: (c) => c.used, cell: (c) => <span title={when(c.used)}>{ago(c.used)}</span> },
      { head: "From", by: (c) => c.address ?? "", cell: (c) => <span className="font-mono">{c.address}</span> },
      { head: "Signed in", by: (c) => c.created, cell: (c) => <span className="text-soft" title={when(c.created)}>{ago(c.created)}</span> },
      { head: "Expires", by: (c) => c.expires, cell: (c) => <span className="text-soft">{when(c.expires)}</span> },
      { head: "Actions", cell: (c) => (c.current ? <span className="text-soft">sign out to end it</span> : <Button look="quiet" onClick={() => setEnding(c)} aria-label={`End ${c.kind} ${c.id} of ${c.user}`}>End …</Button>) },
    ],
    [everybody],
  );
  const close = () => setEnding(undefined);
  return (
    <>
      <PageHead title="Sessions and tokens" verdict={<span className="text-soft">{everybody ? "What everybody is signed in with." : "What you are signed in with. End what you do not know or no longer need."}</span>}>
        {me?.role === "administrator" && <Check label="Of all users" checked={everybody} onChange={setEverybody} />}
      </PageHead>
      <DataTable what="sessions and tokens" query={held} columns={columns} keyOf={(c) => String(c.id)} empty="Nobody is signed in." />
      <Dialog open={ending !== undefined} onOpenChange={close} title={`End this ${ending?.kind} of ${ending?.user}?`} lead="It is refused from now on. Whoever uses it has to sign in again.">
        {ending && <SaveForm action="End" danger done={`The ${ending.kind} has ended.`} onDone={close} onCancel={close} save={() => api.DELETE("/api/v1/credentials/{credential}", { params: { path: { credential: ending.id } } })} />}
      </Dialog>
    </>
  );
}
