// A share: is anything wrong with it, what is in it, who comes through.
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, got, type Run, type ShareNow, type SharePlan, type Survey } from "../api/client";
import { useGrowth, useServer, useShare, useShareNow, useSurvey, useSurveys } from "../api/queries";
import { AccountTable } from "../components/accountsinuse";
import { Bars } from "../components/figures";
import { FindingLines } from "../components/findinglines";
import { ended, RunProgress } from "../components/run";
import { Status } from "../components/status";
import { Button, Dialog, Empty, Facts, Loading, PageHead, Section, Trouble } from "../components/ui";
import { ago, bytes, filesOf, plural, when } from "../format";
import { Plan, ShareForm } from "./shareform";

export function SharePage() {
  const { server = "", share = "" } = useParams();
  const at = useServer(server);
  if (at.isPending) return <Loading what={`${server}/${share}`} />;
  if (!at.data) return <Trouble error={at.error} retry={() => void at.refetch()} />;
  return at.data.kind !== "smb" ? <MoverFolder server={server} share={share} bucket={at.data.kind === "cloud"} /> : <SmbShare server={server} share={share} />;
}

/** A folder that a mover serves, or a bucket: what is in it. */
function MoverFolder({ server, share, bucket }: { server: string; share: string; bucket: boolean }) {
  const detail = useShare(server, share);
  const surveyed = useSurveyed(server, share);
  if (detail.isPending) return <Loading what={`${server}/${share}`} />;
  if (!detail.data) return <Trouble error={detail.error} retry={() => void detail.refetch()} />;
  const h = detail.data;
  return (
    <>
      <PageHead title={<ShareTitle server={server} share={h.name} />} verdict={<Verdict survey={surveyed.survey.data} />}>
        <SurveyButton {...surveyed} />
      </PageHead>
      <div className="grid gap-x-10 xl:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
        <Surveyed {...surveyed} />
        <div>
          <Section title={bucket ? "Bucket" : "Folder"}>
            <Facts
              facts={
                bucket
                  ? [
                      ["Capacity", "unlimited; the provider bills what is stored"],
                      ["Permissions", "stored with each object for the other replicas; access to the bucket is governed by access keys"],
                    ]
                  : [
                      ["On the host", <code key="p" className="break-all">{h.path}</code>],
                      ["Volume", `${bytes(h.freeBytes)} free of ${bytes(h.totalBytes)}`],
                      ["Permissions", "kept with the files, for the replicas where people sign in; on the host itself its own owners and modes count"],
                    ]
              }
            />
          </Section>
          <Growth surveys={surveyed.surveys.data} />
        </div>
      </div>
      {surveyed.survey.data && surveyed.survey.data.figures.files > 0 && <Figures survey={surveyed.survey.data} />}
    </>
  );
}

/** The surveys of a share, and how one is begun. */
function useSurveyed(server: string, share: string) {
  const surveys = useSurveys(server, share);
  const latest = surveys.data?.[0];
  const survey = useSurvey(latest?.id);
  const start = useMutation({ mutationFn: () => api.POST("/api/v1/surveys", { body: { places: [{ server, share }] } }) });
  return { surveys, latest, survey, start };
}

type SurveyedProps = ReturnType<typeof useSurveyed>;

const SurveyButton = ({ start, latest }: SurveyedProps) => <Button onClick={() => start.mutate()} disabled={start.isPending || (latest && !ended(latest))}>Survey now</Button>;

function Surveyed({ surveys, latest, survey, start }: SurveyedProps) {
  return (
    <Section title="Survey" aside={latest && `${when(latest.created)}, by ${latest.who}`}>
      {start.error && <div className="mb-5"><Trouble error={start.error} /></div>}
      <SurveyPart loading={surveys.isPending || (survey.isPending && latest !== undefined)} survey={survey.data} error={surveys.error ?? survey.error} />
    </Section>
  );
}

const ShareTitle = ({ server, share }: { server: string; share: string }) => <><Link className="text-soft underline decoration-1 underline-offset-4 hover:text-ink" to={`/servers/${encodeURIComponent(server)}`}>{server}</Link>/{share}</>;

function SmbShare({ server, share }: { server: string; share: string }) {
  const now = useShareNow(server, share);
  const detail = useShare(server, share);
  const surveyed = useSurveyed(server, share);
  const { survey } = surveyed;
  const [editing, setEditing] = useState(false);
  const [removing, setRemoving] = useState(false);
  if (now.isPending) return <Loading what={`${server}/${share}`} />;
  if (!now.data) return <Trouble error={now.error} retry={() => void now.refetch()} />;
  const h = now.data;
  return (
    <>
      <PageHead title={<ShareTitle server={server} share={h.name} />} verdict={<Verdict survey={survey.data} />}>
        <Link to={filesOf(server, h.name)} className="inline-flex items-center border border-span bg-span px-3 py-1 font-medium text-on-span hover:opacity-90">Files and rights</Link>
        <SurveyButton {...surveyed} />
        <Button onClick={() => setEditing(true)}>Change</Button>
        <Button onClick={() => setRemoving(true)}>Remove …</Button>
      </PageHead>
      <div className="grid gap-x-10 xl:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
        <Surveyed {...surveyed} />
        <div>
          <Section title="Share">
            <ShareFacts share={h} free={detail.data} />
          </Section>
          {survey.data && survey.data.run.state === "done" && (
            <Section title="Findings" aside={plural(survey.data.findings.length, "finding")}>
              {survey.data.findings.length > 0 ? <FindingLines about="paths" list={survey.data.findings} /> : <Empty>Nothing to mend was found.</Empty>}
            </Section>
          )}
          <Growth surveys={surveyed.surveys.data} />
        </div>
      </div>
      {survey.data && survey.data.figures.files > 0 && <Figures survey={survey.data} />}
      <Dialog open={editing} onOpenChange={setEditing} title={`Change ${server}/${h.name}`} lead="Rehearse it first: you see what would change, and what people may do in the end.">
        <ShareForm key={JSON.stringify(h)} server={server} share={h} onClose={() => setEditing(false)} />
      </Dialog>
      <RemoveShare server={server} share={h} open={removing} onOpenChange={setRemoving} />
    </>
  );
}

function Verdict({ survey }: { survey: Survey | undefined }) {
  if (!survey) return <Status tone="none">not surveyed yet</Status>;
  if (survey.run.state !== "done") return <Status tone="none">survey {survey.run.state}</Status>;
  const n = survey.findings.length;
  if (n === 0) return <Status tone="good">nothing to mend</Status>;
  return <Status tone="warn">{plural(n, "finding")} about permissions</Status>;
}

function SurveyPart({ loading, survey, error }: { loading: boolean; survey: Survey | undefined; error: unknown }) {
  if (loading) return <Loading what="the survey" />;
  if (error) return <Trouble error={error} />;
  if (!survey) return <Empty>It was not surveyed yet: a survey counts what is in it, and finds what should be known about its permissions.</Empty>;
  const f = survey.figures;
  return (
    <div className="grid gap-4">
      {survey.run.state !== "done" && <RunProgress run={survey.run} />}
      <dl className="grid grid-cols-3 gap-x-6 gap-y-2 border-y border-line py-2">
        {([
          ["Files", f.files.toLocaleString("en")],
          ["Folders", f.folders.toLocaleString("en")],
          ["Size", bytes(f.bytes)],
          ["Occupies", bytes(f.allocatedBytes)],
          ["Kinds of permissions", survey.distinct.toLocaleString("en")],
          ["Took", `${(survey.run.workedMs / 1000).toFixed(1)} s`],
        ] as const).map(([name, value]) => (
          <div key={name}>
            <dt className="text-sm text-soft">{name}</dt>
            <dd className="text-lg font-semibold">{value}</dd>
          </div>
        ))}
      </dl>
      {f.unreadable + f.unseen > 0 && <p className="text-warn">{plural(f.unreadable, "folder")} could not be listed, and the permissions of {plural(f.unseen, "entry", "entries")} not read: {f.trouble.join("; ")}</p>}
      <Bars caption="By time since the last change" bars={f.ages} />
      <Bars caption="By type" bars={f.types} most={8} />
      <Bars caption="By size of the file" bars={f.sizes} />
    </div>
  );
}

function Figures({ survey }: { survey: Survey }) {
  const f = survey.figures;
  return (
    <>
      <div className="grid gap-x-10 gap-y-6 xl:grid-cols-2">
        <Bars caption="By folder at the top" bars={f.tops} />
        <Names survey={survey} />
      </div>
      <div className="mt-8 grid gap-x-10 xl:grid-cols-2">
        <Section title="Largest files">
          <Ranked list={f.largest.map((n) => [n.path, bytes(n.size)])} />
        </Section>
        <Section title="Longest paths">
          <Ranked list={f.longest.map((n) => [n.path, `${n.size} characters`])} />
        </Section>
      </div>
      {survey.accounts.length > 0 && <AccountsInUse survey={survey} />}
    </>
  );
}

/** The accounts that the permissions of files and share name. */
const AccountsInUse = ({ survey }: { survey: Survey }) => (
  <Section title="Accounts in use" aside={plural(survey.accounts.length, "account")}>
    <AccountTable query={{ data: survey.accounts, isPending: false, error: null, refetch: () => undefined }} keyOf={(a) => a.sid} />
  </Section>
);

const Ranked = ({ list }: { list: [string, string][] }) => (
  <ol className="border-t border-line">
    {list.slice(0, 8).map(([path, value]) => (
      <li key={path} className="grid grid-cols-[minmax(0,1fr)_max-content] gap-4 border-b border-line py-0.5">
        <code className="truncate" title={path}>{path}</code>
        <span className="text-right">{value}</span>
      </li>
    ))}
  </ol>
);

function Names({ survey }: { survey: Survey }) {
  const { names } = survey.figures;
  return (
    <div>
      <h3 className="mb-1 font-medium">Names that other systems refuse</h3>
      {names.length === 0 && <p className="text-soft">None.</p>}
      <ul className="border-t border-line">
        {names.map((n) => (
          <li key={n.kind} className="border-b border-line py-1">
            <span className="font-medium">{n.count.toLocaleString("en")}</span> {n.means}
            <code className="block truncate text-sm text-soft" title={n.samples[0]}>{n.samples[0]}</code>
          </li>
        ))}
      </ul>
    </div>
  );
}

function ShareFacts({ share: h, free }: { share: ShareNow; free: { freeBytes: number; totalBytes: number; ledToFrom: string[] } | undefined }) {
  return (
    <Facts
      facts={[
        ["Folder", <code key="p" className="break-all">{h.path}</code>],
        ["Note", h.note || "none"],
        ["Comes through", <ul key="a">{h.access.map((g) => <li key={g.account + g.level}>{g.account}: {g.level}</li>)}</ul>],
        ["Unreadable entries", h.hideUnreadable ? "hidden" : "shown"],
        ["Encryption", h.encrypt ? "demanded" : "not demanded"],
        ["Offline copies", { "by-hand": "those that people choose", documents: "what people open", programs: "what people open, programs too", never: "never" }[h.offline]],
        ["Volume", free ? `${bytes(free.freeBytes)} free of ${bytes(free.totalBytes)}` : "…"],
        ["Led to from", free?.ledToFrom.length ? free.ledToFrom.map((path) => <Link key={path} className="mr-3 font-mono text-span underline underline-offset-2" to={`/namespaces/${path.split("/")[1]}`}>{path}</Link>) : "no signpost"],
        ["In use", h.connected.length ? <ul key="c">{h.connected.map((who) => <li key={who} className="break-words">{who}</li>)}</ul> : `nobody has a file open (${plural(h.uses, "connection")})`],
      ]}
    />
  );
}

/** What changed since the survey before. */
function Growth({ surveys }: { surveys: Run[] | undefined }) {
  const done = (surveys ?? []).filter((r) => r.state === "done");
  const growth = useGrowth(done[0]?.id, done[1]?.id);
  if (!growth.data) return null;
  const g = growth.data.figures;
  const sign = (n: number, text: string) => (n >= 0 ? `+${text}` : `−${text}`);
  return (
    <Section title="Since the survey before" aside={ago(growth.data.before.ended ?? growth.data.before.created)}>
      <Facts
        facts={[
          ["Files", sign(g.files, Math.abs(g.files).toLocaleString("en"))],
          ["Size", `${sign(g.bytes, bytes(Math.abs(g.bytes)))} (${sign(g.bytesPerDay, bytes(Math.abs(Math.round(g.bytesPerDay))))} a day)`],
          ["Written", `${plural(g.changed.files, "file")}, ${bytes(g.changed.bytes)}`],
        ]}
      />
    </Section>
  );
}

function RemoveShare({ server, share, open, onOpenChange }: { server: string; share: ShareNow; open: boolean; onOpenChange: (open: boolean) => void }) {
  const navigate = useNavigate();
  const remove = useMutation({
    mutationFn: (query: { rehearse: boolean; detach: boolean }): Promise<SharePlan> => got(api.DELETE("/api/v1/servers/{server}/shares/{share}", { params: { path: { server, share: share.name }, query } })),
    onSuccess: (_, { rehearse }) => {
      if (!rehearse) void navigate(`/servers/${encodeURIComponent(server)}`);
    },
  });
  return (
    <Dialog open={open} onOpenChange={onOpenChange} title={`Remove ${server}/${share.name}?`} lead="The share ends; the files stay where they are. Rehearse it first: you see who is connected and what leads there.">
      {remove.data && <Plan plan={remove.data} />}
      {remove.error && <Trouble error={remove.error} />}
      <div className="mt-4 flex justify-end gap-2">
        <Button onClick={() => onOpenChange(false)}>Cancel</Button>
        <Button look="main" onClick={() => remove.mutate({ rehearse: true, detach: false })} disabled={remove.isPending}>Rehearse</Button>
        {!!remove.data?.signposts.length && <Button onClick={() => remove.mutate({ rehearse: true, detach: true })} disabled={remove.isPending}>Rehearse with its locations</Button>}
        {remove.data?.rehearsed && !remove.data.advice.some((a) => a.severity === "fail") && <Button look="danger" onClick={() => remove.mutate({ rehearse: false, detach: remove.variables?.detach ?? false })} disabled={remove.isPending}>Remove the share</Button>}
      </div>
    </Dialog>
  );
}
