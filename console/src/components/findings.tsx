// What a person should know about permissions, each with its meaning and remedy.
import type { Finding } from "../api/client";
import { Status } from "./status";
import { plural } from "../format";
import { sentence } from "./ui";

export function Findings({ findings }: { findings: Finding[] }) {
  return (
    <ul className="border-t border-line">
      {findings.map((f) => (
        <li key={f.kind + (f.account?.sid ?? "")} className="border-b border-line py-2">
          <div className="flex flex-wrap items-baseline gap-x-3">
            <Status tone="warn">{f.kind.replaceAll("-", " ")}</Status>
            {f.account && <code className="break-all">{f.account.name}</code>}
            {f.count ? <span className="text-soft">on {plural(f.count, "file or folder", "files and folders")}</span> : null}
          </div>
          <p>{sentence(f.means)}</p>
          <p className="text-soft">To mend it: {f.remedy}.</p>
          {f.samples && f.samples.length > 0 && (
            <details>
              <summary className="cursor-pointer text-sm text-span">Where, for example</summary>
              <ul className="mt-1 pl-4">
                {f.samples.map((s) => (
                  <li key={s}><code className="text-sm break-all">{s}</code></li>
                ))}
              </ul>
            </details>
          )}
        </li>
      ))}
    </ul>
  );
}
