import type { EffectiveRights } from "../api/client";

/** What somebody may do, as a level, or word by word when no level says it. */
export const levelText = (e: EffectiveRights) => (e.level === "special" ? e.words.join(", ") : e.level);
