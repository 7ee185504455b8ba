// The lines of a check, each with its remedy where one is needed.
import type { Schemas } from "../api/client";
import { outcomeTone, Status } from "./status";
import { sentence } from "./ui";

export function CheckLines({ lines }: { lines: Schemas["CheckLine"][] }) {
  return (
    <ul className="border-t border-line">
      {lines.map((l) => (
        <li key={l.name + l.found} className="grid grid-cols-[4.5rem_6.5rem_minmax(0,1fr)] gap-x-3 border-b border-line py-1.5">
          <Status tone={outcomeTone(l.outcome)}>{l.outcome}</Status>
          <span className="font-medium">{l.name}</span>
          <span className="min-w-0 break-words">
            {l.found}
            {l.means && <span className="block text-soft">{sentence(l.means)}</span>}
            {l.remedy && <span className="block">To mend it: {l.remedy}.</span>}
          </span>
        </li>
      ))}
    </ul>
  );
}
