import { useMemo, useState } from "react";
import { api, etag, type User } from "../api/client";
import { useSession, useUsers } from "../api/queries";
import { SaveForm } from "../components/form";
import { DataTable, type Column } from "../components/table";
import { Button, Dialog, Field, PageHead, Select, TextField } from "../components/ui";
import { when } from "../format";

type Role = User["role"];
type Doing = { kind: "add" } | { kind: "edit" | "remove"; user: User };

const roles: { value: Role; label: string }[] = [
  { value: "viewer", label: "Viewer: reads everything" },
  { value: "operator", label: "Operator: also changes namespaces, runs checks" },
  { value: "administrator", label: "Administrator: also changes servers, sites, users" },
];

export function UsersPage() {
  const users = useUsers();
  const me = useSession().data?.user.name;
  const [doing, setDoing] = useState<Doing>();
  const columns = useMemo<Column<User>[]>(
    () => [
      { head: "Name", by: (u) => u.name, cell: (u) => <span className="font-medium">{u.name}{u.name === me && <span className="text-soft"> (you)</span>}</span> },
      { head: "Role", by: (u) => u.role, cell: (u) => u.role },
      { head: "Since", wide: true, by: (u) => u.created, cell: (u) => <span className="text-soft">{when(u.created)}</span> },
      {
        head: "Actions",
        cell: (u) => (
          <>
            <Button look="quiet" onClick={() => setDoing({ kind: "edit", user: u })} aria-label={`Change ${u.name}`}>Change</Button>
            <Button look="quiet" onClick={() => setDoing({ kind: "remove", user: u })} aria-label={`Remove ${u.name}`}>Remove …</Button>
          </>
        ),
      },
    ],
    [me],
  );
  const close = () => setDoing(undefined);
  const chosen = doing && doing.kind !== "add" ? doing.user : undefined;
  return (
    <>
      <PageHead title="Users" verdict={<span className="text-soft">Who may use Bridge Span itself. People who only open files need no user here.</span>}>
        <Button look="main" onClick={() => setDoing({ kind: "add" })}>Add a user</Button>
      </PageHead>
      <DataTable what="users" query={users} columns={columns} keyOf={(u) => u.name} empty="There is no user." />
      <Dialog open={doing?.kind === "add"} onOpenChange={close} title="Add a user">
        <UserForm onClose={close} />
      </Dialog>
      <Dialog open={doing?.kind === "edit"} onOpenChange={close} title={`Change ${chosen?.name}`} lead="A new password ends the user's sessions and tokens.">
        <UserForm user={chosen} onClose={close} />
      </Dialog>
      <Dialog open={doing?.kind === "remove"} onOpenChange={close} title={`Remove ${chosen?.name}?`} lead="Their sessions and tokens end at once. What they changed stays, and stays in the list of changes.">
        {chosen && <SaveForm action="Remove" danger done={`${chosen.name} was removed.`} onDone={close} onCancel={close} save={() => api.DELETE("/api/v1/users/{user}", { params: { path: { user: chosen.name }, header: { "If-Match": etag(chosen.version) } } })} />}
      </Dialog>
    </>
  );
}

function UserForm({ user, onClose }: { user?: User; onClose: () => void }) {
  const [name, setName] = useState(user?.name ?? "");
  const [role, setRole] = useState<Role>(user?.role ?? "viewer");
  const [password, setPassword] = useState("");
  const save = () =>
    user
      ? api.PATCH("/api/v1/users/{user}", { params: { path: { user: user.name }, header: { "If-Match": etag(user.version) } }, body: { role, password: password || undefined } })
      : api.POST("/api/v1/users", { body: { name, role, password } });
  return (
    <SaveForm action={user ? "Save" : "Add"} done={`${name} was ${user ? "changed" : "added"}.`} fields={["name", "role", "password"]} save={save} onDone={onClose} onCancel={onClose}>
      {(errors) => (
        <>
          {!user && <TextField label="Name" value={name} onChange={(e) => setName(e.target.value)} error={errors.name} autoComplete="off" autoFocus />}
          <Field label="Role" error={errors.role}>
            {(props) => <Select {...props} value={role} onChange={(r) => setRole(r as Role)} options={roles} />}
          </Field>
          <TextField label={user ? "New password" : "Password"} type="password" autoComplete="new-password" value={password} onChange={(e) => setPassword(e.target.value)} error={errors.password} help={user ? "Empty keeps the old one." : "At least 10 characters; a few unrelated words are good."} />
        </>
      )}
    </SaveForm>
  );
}
