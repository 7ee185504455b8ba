// How a step of a set-up is saved and checked.
import { useMutation, useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { api, etag, got, type CloudSetup, type Schemas } from "../api/client";
import { SaveForm } from "../components/form";

export type StepProps = { setup: CloudSetup; onDone: () => void };

/** Checks a set-up, and shows what was found. */
export function useCheck(name: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () => got(api.POST("/api/v1/cloud-setups/{setup}/check", { params: { path: { setup: name } } })),
    onSuccess: (s) => queries.setQueryData(["cloud-setup", "one", name], s),
  });
}

/** Saves the settings of a step, and checks the steps. Settings that cannot be checked now are saved nevertheless. */
export function StepForm({ setup: s, onDone, change, fields, children }: StepProps & { change: () => Schemas["EditCloudSetup"]; fields: string[]; children: (errors: Record<string, string>) => ReactNode }) {
  const queries = useQueryClient();
  const check = useCheck(s.name);
  const save = async () => {
    await got(api.PATCH("/api/v1/cloud-setups/{setup}", { params: { path: { setup: s.name }, header: { "If-Match": etag(s.version) } }, body: change() }));
    await check.mutateAsync().catch(() => queries.invalidateQueries({ queryKey: ["cloud-setup"] }));
  };
  return (
    <div className="max-w-3xl">
      <SaveForm action="Save and check" busy="Checking …" fields={fields} onDone={onDone} save={save}>{children}</SaveForm>
    </div>
  );
}
