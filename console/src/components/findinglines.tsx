// What was found, what it means for people and what to do about it: of checks, plans, estimates,
// advice before a change, and alerts.
import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { setPage } from "./replica";
import { outcomeTone, Status } from "./status";
import { sentence } from "./ui";

type Found = Schemas["Finding"];
type Do = NonNullable<Found["action"]>["do"];

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
  "add-leg": () => "/sites",
  "set-intake": ofSet,
  "set-attic": ofSet,
  "show-accounts": ofSet,
  "show-troubles": ofSet,
  "open-lane": ofSet,
  "show-verification": ([, run = ""]) => `/runs/${run}`,
  grant: ([place = ""]) => folderPage(place),
  "edit-share": ([server = "", share = ""]) => `/servers/${encodeURIComponent(server)}/shares/${encodeURIComponent(share)}`,
};

function Remedy({ finding: f }: { finding: Found }) {
  if (!f.remedy) return null;
  const page = f.action && pages[f.action.do];
  return (
    <span className="block">
      To do: {page ? <Link className="text-span underline underline-offset-2" to={page(f.action?.args ?? [])}>{f.remedy}</Link> : f.remedy}.
    </span>
  );
}

export function FindingLines({ list }: { list: Found[] }) {
  if (list.length === 0) return null;
  return (
    <ul className="border-t border-line">
      {list.map((f, i) => (
        <li key={`${f.code} ${f.found} ${i}`} className="grid grid-cols-[4.5rem_7.5rem_minmax(0,1fr)] gap-x-3 border-b border-line py-1.5">
          <Status tone={outcomeTone(f.severity)}>{f.severity}</Status>
          <span className="min-w-0 font-medium break-words">{f.subject || f.code.replaceAll("-", " ")}</span>
          <span className="min-w-0 break-words">
            {f.found}
            {f.meaning && <span className="block text-soft">{sentence(f.meaning)}</span>}
            <Remedy finding={f} />
          </span>
        </li>
      ))}
    </ul>
  );
}
