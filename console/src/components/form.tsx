// A form that saves through the API: its fields show what the service found
// wrong with each, and nothing typed is lost.
import { useMutation } from "@tanstack/react-query";
import type { FormEvent, ReactNode } from "react";
import { Problem } from "../api/client";
import { useToast } from "./toast";
import { Button, Trouble } from "./ui";

export function SaveForm(props: { save: () => Promise<unknown>; onDone: () => void; done?: string; action: string; busy?: string; danger?: boolean; fields?: string[]; onCancel?: () => void; children?: (errors: Record<string, string>) => ReactNode }) {
  const tell = useToast();
  const saving = useMutation({
    mutationFn: async () => props.save(),
    onSuccess: () => {
      if (props.done) tell(props.done);
      props.onDone();
    },
  });
  const problem = saving.error instanceof Problem ? saving.error : undefined;
  const errors = problem?.fields ?? {};
  // What no field of this form can show is shown above the buttons.
  const shown = Object.keys(errors).some((name) => props.fields?.includes(name));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    saving.mutate();
  };
  return (
    <form onSubmit={submit} className="grid gap-4" noValidate>
      {props.children?.(withRemedy(errors, problem))}
      {saving.error && !shown && <Trouble error={saving.error} />}
      <div className="flex justify-end gap-2">
        {props.onCancel && <Button onClick={props.onCancel}>Cancel</Button>}
        <Button type="submit" look={props.danger ? "danger" : "main"} disabled={saving.isPending}>
          {saving.isPending ? (props.busy ?? "Saving …") : props.action}
        </Button>
      </div>
    </form>
  );
}

function withRemedy(errors: Record<string, string>, problem: Problem | undefined): Record<string, string> {
  const remedy = problem?.remedy ? `: ${problem.remedy}` : "";
  return Object.fromEntries(Object.entries(errors).map(([name, text]) => [name, text + remedy]));
}
