// The calendar: a week of hours, each with a rate, shown and painted. The text
// form is beside it; the service is the one that reads and writes it.
import { useState } from "react";
import { api, got, Problem } from "../api/client";
import { useCalendar } from "../api/queries";
import { Field, TextInput } from "./ui";

const days = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

const presets: [string, string][] = [
  ["Always", "full"],
  ["Outside working hours", "full; mon-fri 8-18 off"],
  ["Slower in working hours", "full; mon-fri 8-18 10"],
  ["At night", "off; 20-6 full"],
];

const said = (rate: number) => (rate === 0 ? "off" : rate < 0 ? "full" : `${rate} Mbit/s`);
const look = (rate: number) => (rate === 0 ? "bg-inset" : rate < 0 ? "bg-span" : "bg-span/40");

/** A week as it is. */
export function Week({ hours, onPaint, onDone }: { hours: number[]; onPaint?: (from: number, to: number) => void; onDone?: () => void }) {
  const [from, setFrom] = useState<number>();
  const paint = (hour: number) => from !== undefined && onPaint?.(from, hour);
  return (
    <div className="overflow-x-auto">
      <table className="border-collapse select-none" onPointerUp={() => { setFrom(undefined); if (from !== undefined) onDone?.(); }} onPointerLeave={() => { setFrom(undefined); if (from !== undefined) onDone?.(); }}>
        <thead>
          <tr className="text-xs text-soft">
            <th scope="col"><span className="sr-only">Day</span></th>
            {Array.from({ length: 24 }, (_, h) => <th key={h} scope="col" className="w-5 text-left font-normal">{h % 3 === 0 ? h : <span className="sr-only">{h}</span>}</th>)}
          </tr>
        </thead>
        <tbody>
          {days.map((day, d) => (
            <tr key={day}>
              <th scope="row" className="pr-2 text-right text-sm font-normal">{day.slice(0, 3)}</th>
              {hours.slice(24 * d, 24 * d + 24).map((rate, h) => (
                <td
                  key={h}
                  title={`${day} ${h}:00 to ${h + 1}:00: ${said(rate)}`}
                  className={`h-5 w-5 border border-sheet ${look(rate)} ${onPaint ? "cursor-crosshair" : ""}`}
                  onPointerDown={(e) => { if (onPaint) { (e.target as Element).releasePointerCapture?.(e.pointerId); setFrom(24 * d + h); onPaint(24 * d + h, 24 * d + h); } }}
                  onPointerEnter={() => paint(24 * d + h)}
                >
                  <span className="sr-only">{said(rate)}</span>
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-1 flex gap-4 text-xs text-soft">
        {[-1, 1, 0].map((r) => <span key={r} className="inline-flex items-center gap-1.5"><span className={`inline-block size-3 ${look(r)}`} aria-hidden />{r < 0 ? "full" : r === 0 ? "off" : "capped"}</span>)}
      </p>
    </div>
  );
}

/** A calendar that can be written, chosen or painted. */
export function CalendarField({ label, value, onChange, error }: { label: string; value: string; onChange: (text: string) => void; error?: string }) {
  const read = useCalendar(value || "full");
  const [brush, setBrush] = useState("off");
  const [painted, setPainted] = useState<number[]>();
  const wrong = read.error instanceof Problem ? `${read.error.detail}: ${read.error.remedy}` : undefined;
  const hours = painted ?? read.data?.hours;
  const rate = brush === "off" ? 0 : brush === "full" ? -1 : Math.max(0, Number(brush)) || 0;
  const paint = (from: number, to: number) => {
    // A rectangle from one hour to another: the same hours on each day between.
    const [d1, d2] = [Math.floor(from / 24), Math.floor(to / 24)].sort((a, b) => a - b) as [number, number];
    const [h1, h2] = [from % 24, to % 24].sort((a, b) => a - b) as [number, number];
    const base = read.data?.hours ?? [];
    setPainted(base.map((old, i) => (Math.floor(i / 24) >= d1 && Math.floor(i / 24) <= d2 && i % 24 >= h1 && i % 24 <= h2 ? rate : old)));
  };
  const done = async () => {
    if (!painted) return;
    const c = await got(api.POST("/api/v1/calendars", { body: { hours: painted } }));
    onChange(c.text ?? "full");
    setPainted(undefined);
  };
  return (
    <div className="grid gap-2">
      <Field label={label} error={error ?? wrong} help="Rules one after another, later ones override: days, hours (20-6 ends in the next morning) and a rate, which is off, full or Mbit/s.">
        {(props) => <TextInput {...props} className="font-mono" value={value} onChange={(e) => onChange(e.target.value)} />}
      </Field>
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 text-sm">
        {presets.map(([name, text]) => <button key={name} type="button" className="text-span underline underline-offset-2" onClick={() => onChange(text)}>{name}</button>)}
        <span className="ml-auto inline-flex items-baseline gap-2">
          <label htmlFor="brush">Paint with</label>
          <select id="brush" className="border border-edge bg-sheet px-1 py-0.5" value={brush} onChange={(e) => setBrush(e.target.value)}>
            <option value="off">off</option>
            <option value="full">full</option>
            {["1", "2", "5", "10", "20", "50", "100"].map((n) => <option key={n} value={n}>{n} Mbit/s</option>)}
          </select>
        </span>
      </div>
      {hours && <Week hours={hours} onPaint={paint} onDone={() => void done()} />}
    </div>
  );
}
