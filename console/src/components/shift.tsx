// What one account gains or loses, in one line.
import type { Schemas } from "../api/client";

export const ShiftText = ({ shift: s }: { shift: Schemas["RightsShift"] }) => (
  <>
    <span className="font-semibold">{s.account.name}</span>: {s.before} → {s.after}
    {s.gains?.length ? `, gains ${s.gains.join(", ")}` : ""}
    {s.loses?.length ? `, loses ${s.loses.join(", ")}` : ""}
  </>
);
