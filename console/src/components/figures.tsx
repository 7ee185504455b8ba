// Figures drawn as lines of a sheet: a meter, and bars beside their numbers.
import { bytes as inBytes } from "../format";

/** How full something is; share is 0 to 1. */
export function Meter({ label, share, warn }: { label: string; share: number; warn?: boolean }) {
  const percent = Math.round(Math.min(1, Math.max(0, share)) * 100);
  return (
    <div role="meter" aria-label={label} aria-valuemin={0} aria-valuemax={100} aria-valuenow={percent} className="mt-1 h-2 border border-edge">
      <div className={`h-full ${warn ? "bg-bad" : "bg-span"}`} style={{ width: `${percent}%` }} />
    </div>
  );
}

export type Bar = { name: string; files: number; bytes: number };

/** Classes with their files and bytes; the bar is the share of the bytes. */
export function Bars({ caption, bars, most = 12 }: { caption: string; bars: Bar[]; most?: number }) {
  const shown = bars.filter((b) => b.files > 0).slice(0, most);
  const top = Math.max(1, ...shown.map((b) => b.bytes));
  if (shown.length === 0) return <p className="text-soft">Nothing was counted.</p>;
  return (
    <table className="w-full border-collapse">
      <caption className="mb-1 text-left font-medium">{caption}</caption>
      <thead className="sr-only">
        <tr>
          <th scope="col">Class</th>
          <th scope="col">Share of the bytes</th>
          <th scope="col">Files</th>
          <th scope="col">Size</th>
        </tr>
      </thead>
      <tbody>
        {shown.map((b) => (
          <tr key={b.name} className="border-t border-line align-baseline">
            <th scope="row" className="max-w-48 truncate py-0.5 pr-3 text-left font-normal" title={b.name}>
              {b.name}
            </th>
            <td className="w-full py-0.5" aria-hidden>
              <div className="h-2.5 bg-span" style={{ width: `${Math.max(0.5, (100 * b.bytes) / top)}%` }} />
            </td>
            <td className="py-0.5 pl-3 text-right whitespace-nowrap text-soft">{b.files.toLocaleString("en")}</td>
            <td className="py-0.5 pl-3 text-right whitespace-nowrap">{inBytes(b.bytes)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
