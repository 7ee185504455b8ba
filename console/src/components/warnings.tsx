// What should be known before a number is used, each with its meaning and remedy.
import type { Schemas } from "../api/client";
import { Status } from "./status";
import { sentence } from "./ui";

export function Warnings({ list }: { list: Schemas["DedupWarning"][] }) {
  if (list.length === 0) return null;
  return (
    <ul className="border-t border-line">
      {list.map((w) => (
        <li key={w.says} className="border-b border-line py-1.5">
          <Status tone={w.level === "fail" ? "bad" : "warn"}>{/^\S+\//.test(w.says) ? `${w.says}.` : sentence(w.says)}</Status> {sentence(w.means)} <span className="text-soft">{sentence(w.remedy)}</span>
        </li>
      ))}
    </ul>
  );
}
