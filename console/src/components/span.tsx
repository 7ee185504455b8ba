// The span strip: shore, deck, shore. It draws a pair of places and what runs
// between them. The deck's thickness is capacity; lifted means closed, hatched
// means failing; the figure below says the rest. It grows from a table cell to
// a page's width: only the deck stretches.
import { useId, type ReactNode } from "react";

export type Deck = "open" | "lifted" | "failing" | "none";

/** Thickness of the deck in px for a capacity in Mbit/s: a step for every tenfold. */
const thickness = (mbit: number | undefined) => (mbit === undefined ? 3 : Math.min(12, Math.max(2, 2 + 2.6 * Math.log10(Math.max(1, mbit)))));

export function SpanStrip(props: { from: ReactNode; to: ReactNode; deck: Deck; mbit?: number; figure?: ReactNode; label: string; compact?: boolean }) {
  const height = props.compact ? 22 : 40;
  return (
    <div role="img" aria-label={props.label} className="grid grid-cols-[auto_minmax(3rem,1fr)_auto] items-center">
      <Shore side="left" height={height}>
        {props.from}
      </Shore>
      <div className="relative" style={{ height }}>
        <DeckDrawing deck={props.deck} height={height} thick={thickness(props.mbit) * (props.compact ? 0.55 : 1)} />
        {props.figure && !props.compact && <div className="absolute inset-x-0 -bottom-1 text-center text-xs text-soft">{props.figure}</div>}
      </div>
      <Shore side="right" height={height}>
        {props.to}
      </Shore>
    </div>
  );
}

function Shore({ side, height, children }: { side: "left" | "right"; height: number; children: ReactNode }) {
  const edge = side === "left" ? "border-r-2 pr-3 text-right" : "border-l-2 pl-3";
  return (
    <div className={`flex items-center border-ink ${edge}`} style={{ minHeight: height }}>
      <div className="max-w-52 truncate">{children}</div>
    </div>
  );
}

function DeckDrawing({ deck, height, thick }: { deck: Deck; height: number; thick: number }) {
  const hatch = useId();
  const y = height * 0.42;
  return (
    <svg width="100%" height={height} className={deck === "failing" ? "text-bad" : deck === "open" ? "text-span" : "text-edge"} aria-hidden>
      <defs>
        <pattern id={hatch} width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="3" height="6" fill="currentColor" />
        </pattern>
      </defs>
      {deck === "open" && <rect x="0" y={y - thick / 2} width="100%" height={thick} fill="currentColor" />}
      {deck === "failing" && (
        <>
          <rect x="0" y={y - thick / 2 - 1} width="100%" height={thick + 2} fill={`url(#${hatch})`} />
          <rect x="0" y={y - thick / 2 - 1} width="100%" height={thick + 2} fill="none" stroke="currentColor" strokeWidth="1" />
        </>
      )}
      {deck === "lifted" && (
        <>
          <line x1="0" y1={y} x2="40%" y2={y - height * 0.3} stroke="currentColor" strokeWidth={thick} />
          <line x1="100%" y1={y} x2="60%" y2={y - height * 0.3} stroke="currentColor" strokeWidth={thick} />
        </>
      )}
      {deck === "none" && <line x1="0" y1={y} x2="100%" y2={y} stroke="currentColor" strokeWidth="1.5" strokeDasharray="2 5" />}
    </svg>
  );
}
