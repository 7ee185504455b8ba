// What follows from other settings of a replica set, told before they are saved.
import { useDeferredValue } from "react";
import type { Schemas } from "../api/client";
import { useSettingsPreview } from "../api/queries";
import { FindingLines } from "./findinglines";

export function WhatFollows({ set, change, asItIs }: { set: string; change: Schemas["SettingsChange"]; asItIs: Schemas["SettingsChange"] }) {
  const later = useDeferredValue(JSON.stringify(change));
  const same = later === JSON.stringify(asItIs);
  const query = useSettingsPreview(set, later, !same);
  if (same || !query.data) return null; // what is wrong with a field is told when it is saved
  const lines = query.data.checks.filter((l) => l.severity !== "pass");
  return (
    <section aria-label="What follows" role="status" className="border-l-4 border-span bg-inset px-4 py-3">
      <h3 className="font-medium">What follows</h3>
      <ul className="mt-1 grid gap-1">{query.data.follows.map((f) => <li key={f}>{f}</li>)}</ul>
      {lines.length > 0 && <div className="mt-2"><FindingLines list={lines} /></div>}
    </section>
  );
}
