// A figure with the interval that holds the true one, where it is not exact.
import type { Schemas } from "../api/client";
import { signed } from "../format";

type Figure = Schemas["Figure"];

export const exact = (f: Figure) => f.low === f.high;

/** The interval in words; "" when there is no doubt. */
export const interval = (f: Figure) => (exact(f) ? "" : `${signed(f.low)} to ${signed(f.high)}`);

export function Sure({ f }: { f: Figure }) {
  return <span title={exact(f) ? undefined : "with 95% confidence"}>{signed(f.bytes)}{!exact(f) && <> <span className="whitespace-nowrap text-soft">({interval(f)})</span></>}</span>;
}
