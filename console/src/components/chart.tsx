// How figures went over time.
import { Area, AreaChart, CartesianGrid, Line, LineChart, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";
import { bytes, took } from "../format";

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
