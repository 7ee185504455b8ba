// A state is always a shape, a word and a colour together.
import type { ReactNode } from "react";

export type Tone = "good" | "warn" | "bad" | "held" | "none";

const tones: Record<Tone, string> = { good: "text-span", warn: "text-warn", bad: "text-bad", held: "text-soft", none: "text-soft" };

const shapes: Record<Tone, ReactNode> = {
  good: <circle cx="6" cy="6" r="4.5" fill="currentColor" />,
  warn: <path d="M6 1 11.5 11H.5z" fill="currentColor" />,
  bad: <path d="M1 1h10v10H1zM3.2 4.6 4.6 3.2 6 4.6l1.4-1.4 1.4 1.4L7.4 6l1.4 1.4-1.4 1.4L6 7.4 4.6 8.8 3.2 7.4 4.6 6z" fill="currentColor" fillRule="evenodd" />,
  held: <path d="M2 1.5h3v9H2zM7 1.5h3v9H7z" fill="currentColor" />,
  none: <circle cx="6" cy="6" r="4" fill="none" stroke="currentColor" strokeWidth="1.4" strokeDasharray="2 1.6" />,
};

export function Status({ tone, children }: { tone: Tone; children: ReactNode }) {
  return (
    <span className={`inline-flex items-baseline gap-1.5 ${tones[tone]}`}>
      <svg viewBox="0 0 12 12" className="size-[0.72em] shrink-0" aria-hidden>
        {shapes[tone]}
      </svg>
      <span>{children}</span>
    </span>
  );
}

export const outcomeTone = (outcome: string): Tone => (outcome === "pass" ? "good" : outcome === "warn" ? "warn" : "bad");
export const stateTone = (state: string): Tone => (state === "open" ? "good" : state === "held" ? "held" : "bad");
