// How figures went over time.
import { Area, AreaChart, CartesianGrid, ComposedChart, Line, LineChart, ReferenceLine, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";
import type { Schemas } from "../api/client";
import { bytes, took, when } from "../format";
import { exact } from "./sure";

export type Point = { at: number } & Record<string, number>;

const clock = (at: number) => new Date(at).toLocaleTimeString("sv-SE", { hour: "2-digit", minute: "2-digit" });

/** Bytes over time; each name is one line of the drawing, put on top of the one before. */
export function BytesChart({ label, points, names }: { label: string; points: Point[]; names: string[] }) {
  return (
    <figure aria-label={label} className="h-44">
      <ResponsiveContainer width="100%" height="100%">
        <AreaChart data={points} margin={{ top: 6, right: 8, bottom: 0, left: 8 }}>
          <CartesianGrid stroke="var(--line)" vertical={false} />
          <XAxis dataKey="at" type="number" domain={["dataMin", "dataMax"]} tickFormatter={clock} stroke="var(--soft)" fontSize={12} />
          <YAxis tickFormatter={bytes} width={70} stroke="var(--soft)" fontSize={12} />
          <Tooltip labelFormatter={(at) => clock(Number(at))} formatter={(n) => bytes(Number(n))} contentStyle={{ background: "var(--sheet)", border: "1px solid var(--ink)" }} />
          {names.map((name, i) => (
            <Area key={name} dataKey={name} stackId="all" isAnimationActive={false} stroke="var(--span)" fill="var(--span)" fillOpacity={0.15 + (0.5 * (i + 1)) / names.length} />
          ))}
        </AreaChart>
      </ResponsiveContainer>
    </figure>
  );
}

const dashes = ["", "6 3", "2 3", "9 3 2 3"];

/** Milliseconds over time, a line for each name. */
export function MsChart({ label, points, names }: { label: string; points: Point[]; names: string[] }) {
  return (
    <figure aria-label={label} className="mb-3 h-40">
      <ResponsiveContainer width="100%" height="100%">
        <LineChart data={points} margin={{ top: 6, right: 8, bottom: 0, left: 8 }}>
          <CartesianGrid stroke="var(--line)" vertical={false} />
          <XAxis dataKey="at" type="number" domain={["dataMin", "dataMax"]} tickFormatter={clock} stroke="var(--soft)" fontSize={12} />
          <YAxis tickFormatter={took} width={70} stroke="var(--soft)" fontSize={12} />
          <Tooltip labelFormatter={(at) => clock(Number(at))} formatter={(n) => took(Number(n))} contentStyle={{ background: "var(--sheet)", border: "1px solid var(--ink)" }} />
          {names.map((name, i) => (
            <Line key={name} dataKey={name} isAnimationActive={false} stroke="var(--span)" strokeDasharray={dashes[i % dashes.length]} dot={{ r: 2 }} />
          ))}
        </LineChart>
      </ResponsiveContainer>
    </figure>
  );
}

const axis = { stroke: "var(--soft)", fontSize: 12 };
const paper = { background: "var(--sheet)", border: "1px solid var(--ink)" };

function Legend({ of }: { of: string }) {
  return (
    <figcaption className="flex gap-5 text-sm text-soft">
      <span className="inline-flex items-center gap-1.5"><svg viewBox="0 0 24 4" className="w-6" aria-hidden><path d="M0 2h24" stroke="var(--span)" strokeWidth="2" /></svg>would be saved</span>
      <span className="inline-flex items-center gap-1.5"><svg viewBox="0 0 24 4" className="w-6" aria-hidden><path d="M0 2h24" stroke="var(--soft)" strokeDasharray="6 3" /></svg>{of}</span>
    </figcaption>
  );
}

/** What would be saved with each least age; the chosen one is marked. */
export function SavingByAge({ points, chosen }: { points: Schemas["AgePoint"][]; chosen: number }) {
  const data = points.map((p) => ({ days: p.days, name: p.days === 0 ? "any" : `${p.days} d`, saving: p.saving.bytes, policy: p.bytes, between: [p.saving.low, p.saving.high] as [number, number] }));
  const mark = chosen > 0 && [...data].reverse().find((p) => p.days <= chosen)?.name;
  return (
    <figure aria-label="Saving by least age" className="h-52">
      <Legend of="in policy" />
      <ResponsiveContainer width="100%" height="100%">
        <ComposedChart data={data} margin={{ top: 16, right: 16, bottom: 0, left: 8 }}>
          <CartesianGrid stroke="var(--line)" vertical={false} />
          <XAxis dataKey="name" {...axis} />
          <YAxis tickFormatter={bytes} width={70} {...axis} />
          <Tooltip labelFormatter={(age) => `unchanged for ${String(age)}`} formatter={(n, name) => (name === "between" ? [(n as number[]).map(bytes).join(" to "), "with 95% confidence"] : [bytes(Number(n)), name === "saving" ? "would be saved" : "in policy"])} contentStyle={paper} />
          {points.some((p) => !exact(p.saving)) && <Area dataKey="between" stroke="none" fill="var(--span)" fillOpacity={0.2} isAnimationActive={false} />}
          {mark && <ReferenceLine x={mark} stroke="var(--ink)" strokeDasharray="3 3" label={{ value: "chosen", position: "insideTopRight", fill: "var(--soft)", fontSize: 12 }} />}
          <Line dataKey="policy" stroke="var(--soft)" strokeDasharray="6 3" dot={false} isAnimationActive={false} />
          <Line dataKey="saving" stroke="var(--span)" strokeWidth={2} dot={{ r: 2 }} isAnimationActive={false} />
        </ComposedChart>
      </ResponsiveContainer>
    </figure>
  );
}

/** What estimates came to over time. */
export function SavingOverTime({ points }: { points: Schemas["EstimatePoint"][] }) {
  const data = points.map((p) => ({ at: Date.parse(p.at), holds: p.totals.bytes, saving: p.totals.saving.bytes, between: [p.totals.saving.low, p.totals.saving.high] as [number, number] }));
  const day = (at: number) => when(new Date(at).toISOString()).slice(0, 16);
  return (
    <figure aria-label="Estimates over time" className="h-44">
      <Legend of="held" />
      <ResponsiveContainer width="100%" height="100%">
        <ComposedChart data={data} margin={{ top: 6, right: 16, bottom: 0, left: 8 }}>
          <CartesianGrid stroke="var(--line)" vertical={false} />
          <XAxis dataKey="at" type="number" domain={["dataMin", "dataMax"]} tickFormatter={day} {...axis} />
          <YAxis tickFormatter={bytes} width={70} {...axis} />
          <Tooltip labelFormatter={(at) => day(Number(at))} formatter={(n, name) => (name === "between" ? [(n as number[]).map(bytes).join(" to "), "with 95% confidence"] : [bytes(Number(n)), name === "saving" ? "would be saved" : "holds"])} contentStyle={paper} />
          {points.some((p) => !exact(p.totals.saving)) && <Area dataKey="between" stroke="none" fill="var(--span)" fillOpacity={0.2} isAnimationActive={false} />}
          <Line dataKey="holds" stroke="var(--soft)" strokeDasharray="6 3" dot={{ r: 2 }} isAnimationActive={false} />
          <Line dataKey="saving" stroke="var(--span)" strokeWidth={2} dot={{ r: 2 }} isAnimationActive={false} />
        </ComposedChart>
      </ResponsiveContainer>
    </figure>
  );
}
