// Folders by their size, the more of one would be saved the deeper its colour. A
// folder with others in it opens when it is chosen.
import { hierarchy, treemap, type HierarchyRectangularNode } from "d3-hierarchy";
import { useMemo, useState } from "react";
import type { Schemas } from "../api/client";
import { bytes, percent } from "../format";

type Node = Schemas["Node"];

/** The drawing is laid out in these units, and stretched to the sheet. */
const width = 1000;
const height = 360;

const rate = (n: Node) => (n.bytes > 0 ? n.saving / n.bytes : 0);
const colour = (n: Node) => `color-mix(in srgb, var(--span) ${Math.round(8 + 92 * Math.min(1, Math.max(0, rate(n))))}%, var(--sheet))`;

export function Treemap({ root }: { root: Node }) {
  const [path, setPath] = useState<string[]>([]);
  const { node, trail } = useMemo(() => walk(root, path), [root, path]);
  const tiles = useMemo(() => layOut(node), [node]);
  return (
    <figure aria-label="Folders by size and saving">
      <nav aria-label="Folder shown" className="mb-1 flex flex-wrap items-baseline gap-x-1">
        <Crumb name="all of it" onClick={() => setPath([])} last={trail.length === 0} />
        {trail.map((name, i) => (
          <span key={i} className="flex items-baseline gap-x-1"><span className="text-soft">/</span><Crumb name={name} onClick={() => setPath(trail.slice(0, i + 1))} last={i === trail.length - 1} /></span>
        ))}
        <span className="ml-auto text-sm text-soft">{bytes(node.bytes)} in policy, {bytes(node.saving)} ({percent(rate(node))}) would be saved</span>
      </nav>
      <div className="relative h-90 border border-edge bg-inset">
        {tiles.map((t) => <Tile key={t.data.name} tile={t} onOpen={() => setPath([...trail, t.data.name])} />)}
        {tiles.length === 0 && <p className="p-4 text-soft">No folders lie in this one.</p>}
      </div>
      <figcaption className="mt-1 flex items-center gap-2 text-sm text-soft">
        <span>saves nothing</span>
        <span className="h-2.5 w-40 border border-edge" style={{ background: "linear-gradient(to right, color-mix(in srgb, var(--span) 8%, var(--sheet)), var(--span))" }} aria-hidden />
        <span>saves all of it</span>
        <span className="ml-auto">The area is the bytes in policy; files right in a folder are drawn as one part of it.</span>
      </figcaption>
    </figure>
  );
}

function Crumb({ name, onClick, last }: { name: string; onClick: () => void; last: boolean }) {
  if (last) return <span className="font-mono font-medium break-all" aria-current="location">{name}</span>;
  return <button className="font-mono break-all text-span underline underline-offset-2" onClick={onClick}>{name}</button>;
}

/** The folder at a path; a step with nothing beside it is taken at once. */
function walk(root: Node, path: string[]): { node: Node; trail: string[] } {
  let node = root;
  const trail: string[] = [];
  for (const name of path) {
    const next = node.below?.find((b) => b.name === name);
    if (!next) break;
    node = next;
    trail.push(name);
  }
  while (node.below?.length === 1 && node.below[0]!.bytes === node.bytes && node.below[0]!.below?.length) {
    node = node.below[0]!;
    trail.push(node.name);
  }
  return { node, trail };
}

const rest = "files right here";

function layOut(node: Node): HierarchyRectangularNode<Node>[] {
  const below = node.below ?? [];
  const own = (of: (n: Node) => number) => of(node) - below.reduce((n, b) => n + of(b), 0);
  const parts = below.map((b) => ({ ...b }));
  if (below.length > 0 && own((n) => n.bytes) > 0) parts.push({ name: rest, files: own((n) => n.files), bytes: own((n) => n.bytes), storedBytes: own((n) => n.storedBytes), saving: own((n) => n.saving) });
  if (parts.length === 0) return [];
  const top = hierarchy<Node>({ ...node, below: parts }, (n) => (n.below === parts ? parts : undefined));
  top.sum((n) => (n.below === parts ? 0 : n.bytes));
  top.sort((a, b) => (b.value ?? 0) - (a.value ?? 0));
  return treemap<Node>().size([width, height]).paddingInner(3)(top).children ?? [];
}

function Tile({ tile, onOpen }: { tile: HierarchyRectangularNode<Node>; onOpen: () => void }) {
  const n = tile.data;
  const [w, h] = [tile.x1 - tile.x0, tile.y1 - tile.y0];
  const style = { left: `${(100 * tile.x0) / width}%`, top: `${(100 * tile.y0) / height}%`, width: `${(100 * w) / width}%`, height: `${(100 * h) / height}%`, background: colour(n), color: rate(n) > 0.5 ? "var(--on-span)" : "var(--ink)" };
  // What is read aloud begins with what is seen.
  const words = `${n.name} ${bytes(n.bytes)} saves ${percent(rate(n))}`;
  const text = w > 60 && h > 30 && (
    <span className="block overflow-hidden px-1.5 py-1 text-left leading-tight">
      <span className="block truncate font-medium">{n.name}</span>
      {h > 48 && <span className="block truncate text-sm">{bytes(n.bytes)}</span>}
      {h > 66 && <span className="block truncate text-sm">saves {percent(rate(n))}</span>}
    </span>
  );
  const place = "absolute flex items-start overflow-hidden outline-offset-[-3px]";
  if (!n.below?.length) return <div className={place} style={style} title={words}>{text}</div>;
  return <button className={`${place} hover:outline-2 hover:outline-ink`} style={style} title={words} aria-label={text ? undefined : words} onClick={onOpen}>{text}<span className="sr-only">, open it</span></button>;
}
