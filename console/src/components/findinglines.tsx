// What was found, what it means for people and what to do about it: of checks, plans, estimates,
// advice before a change, and alerts.
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Finding } from "../api/client";
import { plural } from "../format";
import { setPage } from "./replica";
import { outcomeTone, Status } from "./status";
import { sentence } from "./ui";

type Do = NonNullable<Finding["action"]>["do"];

const folderPage = (place: string) => {
  const [server, share, ...rest] = place.split("/").map(encodeURIComponent);
  return `/servers/${server}/shares/${share}/files/${rest.join("/")}`;
};
const serverPage = ([server = ""]: string[]) => `/servers/${encodeURIComponent(server)}`;
const ofSet = ([set = ""]: string[]) => setPage(set);

/** Where the console does what a finding advises. */
const pages: Partial<Record<Do, (args: string[]) => string>> = {
  "check-server": serverPage,
  "edit-server": serverPage,
  "create-bucket": serverPage,
  "update-mover": () => "/servers",
  "add-leg": () => "/sites",
  "set-intake": ofSet,
  "set-attic": ofSet,
  "decide-removals": ofSet,
  "show-accounts": ofSet,
  "show-troubles": ofSet,
  "open-lane": ofSet,
  "show-verification": ([, run = ""]) => `/runs/${run}`,
  grant: ([place = ""]) => folderPage(place),
  "show-rights": ([place = ""]) => folderPage(place),
  "edit-share": ([server = "", share = ""]) => `/servers/${encodeURIComponent(server)}/shares/${encodeURIComponent(share)}`,
};

function Remedy({ finding: f }: { finding: Finding }) {
  if (!f.remedy) return null;
  const page = f.action && pages[f.action.do];
  return (
    <span className="block">
      To do: {page ? <Link className="text-span underline underline-offset-2" to={page(f.action?.args ?? [])}>{f.remedy}</Link> : f.remedy}.
    </span>
  );
}

function Samples({ list }: { list: string[] }) {
  return (
    <details>
      <summary className="cursor-pointer text-sm text-span">Where, for example</summary>
      <ul className="mt-1 pl-4">{list.map((s) => <li key={s}><code className="text-sm break-all">{s}</code></li>)}</ul>
    </details>
  );
}

// What a finding is about is a name, or a path, which needs more room. Where there is little room
// at all, it stands above what was found.
const columns = { names: "@xl:grid-cols-[4.5rem_7.5rem_minmax(0,1fr)_max-content]", paths: "@xl:grid-cols-[4.5rem_minmax(8rem,18rem)_minmax(0,1fr)_max-content]" };

/** A list of findings; act adds what does the remedy at once. */
export function FindingLines({ list, about = "names", act }: { list: Finding[]; about?: keyof typeof columns; act?: (f: Finding) => ReactNode }) {
  if (list.length === 0) return null;
  return (
    <ul className="@container border-t border-line">
      {list.map((f, i) => (
        <li key={`${f.code} ${f.subject ?? ""} ${f.found} ${i}`} className={`grid grid-cols-[4.5rem_minmax(0,1fr)] ${columns[about]} items-baseline gap-x-3 border-b border-line py-1.5`}>
          <Status tone={outcomeTone(f.severity)}>{f.severity}</Status>
          <span className="min-w-0 font-medium break-words">{f.subject || f.code.replaceAll("-", " ")}</span>
          <span className="col-start-2 min-w-0 break-words @xl:col-start-3">
            {f.found}
            {f.count ? <span className="text-soft">, on {plural(f.count, "file or folder", "files and folders")}</span> : null}
            {f.meaning && <span className="block text-soft">{sentence(f.meaning)}</span>}
            <Remedy finding={f} />
            {f.samples && f.samples.length > 0 && <Samples list={f.samples} />}
          </span>
          {act && <span className="col-start-2 @xl:col-start-4">{act(f)}</span>}
        </li>
      ))}
    </ul>
  );
}
