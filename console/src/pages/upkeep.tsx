// The upkeep of a namespace: what people will stumble over, with fixes, and what
// was changed, with a way back.
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, got, type Application, type Change, type Finding } from "../api/client";
import { useFlaws, useHistory } from "../api/queries";
import { FindingLines } from "../components/findinglines";
import { useToast } from "../components/toast";
import { Button, Dialog, Empty, Loading, Section, sentence, Trouble } from "../components/ui";
import { plural, when } from "../format";

const fixes: Record<string, string> = { "verify-location": "Verify", "open-location": "Open it", "move-entry": "Move it", "remove-entry": "Remove it", "remove-location": "Remove the location" };

export function Flaws({ namespace }: { namespace: string }) {
  const [deep, setDeep] = useState(false);
  const query = useFlaws(namespace, deep);
  const [most, setMost] = useState(100);
  const shown = query.data?.flaws.slice(0, most) ?? [];
  const queries = useQueryClient();
  const navigate = useNavigate();
  const tell = useToast();
  const fix = useMutation({
    mutationFn: (action: NonNullable<Finding["action"]>) => got(api.POST("/api/v1/namespaces/{namespace}/lint/fix", { params: { path: { namespace } }, body: { action } })),
    onSuccess: (done) => {
      if (done.run) void navigate(`/runs/${done.run.id}`);
      else tell(sentence(`done: ${done.text}`));
      void queries.invalidateQueries({ queryKey: ["namespace", namespace] });
    },
  });
  return (
    <Section title="What people may stumble over" aside={<Button look="quiet" disabled={deep && query.isFetching} onClick={() => setDeep(true)}>{deep ? (query.isFetching ? "Asking the servers …" : "The servers were asked too") : "Ask the servers too"}</Button>}>
      {query.isPending && <Loading what="the namespace" />}
      {query.error && <Trouble error={query.error} retry={() => void query.refetch()} />}
      {fix.error && <div className="mb-2"><Trouble error={fix.error} /></div>}
      {query.data?.flaws.length === 0 && <Empty>Nothing to stumble over was found.</Empty>}
      <FindingLines about="paths" list={shown} act={({ action, subject, found }) => action && fixes[action.do] && (
        <Button disabled={fix.isPending} onClick={() => fix.mutate(action)} aria-label={`${fixes[action.do]}: ${subject}: ${found}`}>{fixes[action.do]}</Button>
      )} />
      {query.data && query.data.total > shown.length && (
        <div className="mt-2 flex items-baseline gap-3"><span>{plural(shown.length, "flaw")} of {query.data.total.toLocaleString("en")}.</span>{shown.length < query.data.flaws.length && <Button onClick={() => setMost(most + 100)}>Show more</Button>}</div>
      )}
      {query.data && <p className="mt-2 text-sm text-soft">{query.data.never}</p>}
    </Section>
  );
}

export function History({ namespace }: { namespace: string }) {
  const query = useHistory(namespace);
  const [to, setTo] = useState<Change>();
  const changes = query.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <Section title="History" aside="newest first">
      {query.isPending && <Loading what="the history" />}
      {query.error && <Trouble error={query.error} retry={() => void query.refetch()} />}
      {query.data && changes.length === 0 && <Empty>Nothing was changed yet.</Empty>}
      <ul className="border-t border-line">
        {changes.map((c, i) => (
          <li key={c.id} className="grid grid-cols-[10rem_7rem_9rem_minmax(0,1fr)_max-content] items-baseline gap-x-4 border-b border-line py-1">
            <span className="whitespace-nowrap">{when(c.at)}</span>
            <span className="truncate" title={c.who}>{c.who}</span>
            <span>{c.action}</span>
            <span className="min-w-0">
              <code className="break-all">{c.subject}</code>
              {c.words.map((w) => <span key={w} className="block text-sm break-words text-soft">{w}</span>)}
            </span>
            {i > 0 ? <Button look="quiet" aria-label={`Return to this …: change ${c.id}`} onClick={() => setTo(c)}>Return to this …</Button> : <span className="text-soft">now</span>}
          </li>
        ))}
      </ul>
      {query.hasNextPage && <div className="mt-3"><Button disabled={query.isFetchingNextPage} onClick={() => void query.fetchNextPage()}>{query.isFetchingNextPage ? "Reading …" : "Show earlier changes"}</Button></div>}
      <Dialog open={to !== undefined} onOpenChange={() => setTo(undefined)} title={`Return /${namespace} to how it was`} lead={to && `Right after ${to.action} of ${to.subject}, ${when(to.at)}. No file is touched; locations that come back are held until they are verified.`}>
        {to && <Return key={to.id} namespace={namespace} to={to} onClose={() => setTo(undefined)} />}
      </Dialog>
    </Section>
  );
}

function Return({ namespace, to, onClose }: { namespace: string; to: Change; onClose: () => void }) {
  const tell = useToast();
  const send = useMutation({
    mutationFn: (was?: Application) => got(api.POST("/api/v1/namespaces/{namespace}/return", { params: { path: { namespace }, query: { to: to.id, rehearse: was === undefined, fingerprint: was?.fingerprint } } })),
    onSuccess: (done) => {
      if (done.rehearsed) return;
      tell(`/${namespace} is as it was.`);
      onClose();
    },
  });
  const plan = send.data;
  const steps = plan ? [...plan.settings, ...plan.steps.map((s) => s.text)] : [];
  return (
    <div className="grid gap-3">
      {send.error && <Trouble error={send.error} />}
      {plan && steps.length === 0 && <p>Nothing would change: it is so already.</p>}
      {steps.length > 0 && (
        <>
          <p className="font-medium">{plural(steps.length, "step")} would be done:</p>
          <ol className="max-h-64 list-decimal overflow-auto border-y border-line py-1 pl-7" tabIndex={0} aria-label="Steps">{steps.map((s, i) => <li key={i} className="break-words">{s}</li>)}</ol>
        </>
      )}
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Close</Button>
        <Button look={steps.length > 0 ? "plain" : "main"} disabled={send.isPending} onClick={() => send.mutate(undefined)}>Rehearse</Button>
        {steps.length > 0 && <Button look="main" disabled={send.isPending} onClick={() => send.mutate(plan)}>Do it</Button>}
      </div>
    </div>
  );
}
