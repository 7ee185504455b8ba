// How numbers and times are written.
const units = ["B", "KiB", "MiB", "GiB", "TiB", "PiB"];

export function bytes(n: number): string {
  let i = 0;
  while (n >= 1024 && i < units.length - 1) {
    n /= 1024;
    i++;
  }
  return `${i === 0 || n >= 100 ? Math.round(n) : n.toFixed(1)} ${units[i]}`;
}

/** Bytes that may be fewer than none. */
export const signed = (n: number) => (n < 0 ? `−${bytes(-n)}` : bytes(n));

/** A part of a whole, 0 to 1. */
export const percent = (part: number) => `${part < 0 ? "−" : ""}${Math.abs(100 * part).toFixed(1)}%`;

/** How far two parts of a whole are apart, in points of a hundred. */
export const points = (difference: number) => percent(difference).replace("%", " points");

export const when = (iso: string) => new Date(iso).toLocaleString("sv-SE", { dateStyle: "short", timeStyle: "medium" });

const steps: [number, string][] = [
  [60, "s"],
  [60, "min"],
  [24, "h"],
  [Infinity, "d"],
];

/** How long ago, in the largest unit that says enough. */
export function ago(iso: string, now = Date.now()): string {
  let n = Math.max(0, Math.round((now - Date.parse(iso)) / 1000));
  for (const [size, unit] of steps) {
    if (n < size) return `${n} ${unit} ago`;
    n = Math.floor(n / size);
  }
  return "";
}

export const plural = (n: number, one: string, many = one + "s") => `${n.toLocaleString("en")} ${n === 1 ? one : many}`;

export const target = (l: { server: string; share: string; sub?: string }) => [l.server, l.share, l.sub].filter(Boolean).join("/");

/** The page that shows the files of a folder of a share. */
export const filesOf = (server: string, share: string, ...inside: string[]) =>
  `/servers/${encodeURIComponent(server)}/shares/${encodeURIComponent(share)}/files/${inside.filter(Boolean).map(encodeURIComponent).join("/")}`;

/** A time in milliseconds as people say it. */
export const took = (ms: number) => (ms < 10_000 ? `${(ms / 1000).toFixed(1)} s` : ms < 90_000 ? `${Math.round(ms / 1000)} s` : ms < 5_400_000 ? `${Math.round(ms / 60_000)} min` : `${(ms / 3_600_000).toFixed(1).replace(/\.0$/, "")} h`);

const gib = 2 ** 30;

/** A quota as people write it, in GiB; "" for none. */
export const inGiB = (bytes: number) => (bytes > 0 ? String(Math.round((bytes / gib) * 1e6) / 1e6) : "");
/** What is no number becomes −1, which the service refuses. */
export const fromGiB = (text: string) => {
  const n = Math.round(Number(text.replace(",", ".") || 0) * gib);
  return Number.isNaN(n) ? -1 : n;
};

/** The layouts of replica sets that need no lanes to be given. */
export const layouts = [
  { value: "mesh", label: "Mesh: all with all" },
  { value: "hub", label: "Hub: the first one with each" },
  { value: "chain", label: "Chain: each with the next" },
];

/** Minutes between two scans of a bucket. */
export const sweepMinutes = (r: { sweepMin?: number }) => r.sweepMin || 360;

/** An amount of money; without a currency the price is unknown. */
export function money(amount: number, currency?: string, each = ""): string {
  if (!currency) return "price unknown";
  const figure = amount > 0 && amount < 0.01 ? "less than 0.01" : amount.toLocaleString("en", { minimumFractionDigits: 2, maximumFractionDigits: 2 });
  return [figure, currency, each].filter(Boolean).join(" ");
}
