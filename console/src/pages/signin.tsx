import { useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { api, got } from "../api/client";
import { useSetup } from "../api/queries";
import { SaveForm } from "../components/form";
import { TextField } from "../components/ui";
import { Mark } from "../shell";

export function SignInPage() {
  const setup = useSetup();
  return setup.data?.needed ? <FirstRun /> : <SignIn />;
}

function Front({ title, lead, children }: { title: string; lead: string; children: ReactNode }) {
  return (
    <main className="mx-auto grid min-h-screen max-w-sm content-center gap-6 px-6">
      <Mark />
      <div>
        <h1 className="text-xl font-semibold">{title}</h1>
        <p className="text-soft">{lead}</p>
      </div>
      {children}
    </main>
  );
}

function SignIn() {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  return (
    <Front title="Sign in" lead="With your Bridge Span user, not a file server account.">
      <SaveForm action="Sign in" busy="Signing in …" fields={["name", "password"]} save={() => got(api.POST("/api/v1/session", { body: { name, password } }))} onDone={() => void queries.resetQueries()}>
        {(errors) => (
          <>
            <TextField label="Name" autoComplete="username" autoFocus required value={name} onChange={(e) => setName(e.target.value)} error={errors.name} />
            <TextField label="Password" type="password" autoComplete="current-password" required value={password} onChange={(e) => setPassword(e.target.value)} error={errors.password} />
          </>
        )}
      </SaveForm>
    </Front>
  );
}

function FirstRun() {
  const queries = useQueryClient();
  const [token, setToken] = useState("");
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const save = async () => {
    await api.POST("/api/v1/setup", { body: { token, name, password } });
    await api.POST("/api/v1/session", { body: { name, password } });
  };
  return (
    <Front title="First administrator" lead="Nobody can sign in yet. The service printed a set-up token when it was first started.">
      <SaveForm action="Make the administrator" fields={["token", "name", "password"]} save={save} onDone={() => void queries.resetQueries()}>
        {(errors) => (
          <>
            <TextField label="Set-up token" mono autoFocus autoComplete="off" value={token} onChange={(e) => setToken(e.target.value)} error={errors.token} />
            <TextField label="Name" autoComplete="username" value={name} onChange={(e) => setName(e.target.value)} error={errors.name} />
            <TextField label="Password" type="password" autoComplete="new-password" help="At least 10 characters; a few unrelated words are good." value={password} onChange={(e) => setPassword(e.target.value)} error={errors.password} />
          </>
        )}
      </SaveForm>
    </Front>
  );
}
