// The one tree, with the keys that trees have (WAI-ARIA tree pattern): arrows
// move, open and close; Home and End jump; Enter chooses.
import { ChevronDown, ChevronRight } from "lucide-react";
import { useMemo, useRef, useState, type KeyboardEvent, type ReactNode } from "react";

export type Node<T> = { id: string; parent: string; item: T; branch: boolean };

type Row<T> = Node<T> & { depth: number; open: boolean };

export function Tree<T>(props: { label: string; nodes: Node<T>[]; chosen?: string; onChoose: (id: string) => void; row: (item: T) => ReactNode }) {
  const [closed, setClosed] = useState<Set<string>>(new Set());
  const [at, setAt] = useState<string>();
  const list = useRef<HTMLDivElement>(null);
  const rows = useMemo(() => visible(props.nodes, closed), [props.nodes, closed]);
  const stop = rows.find((r) => r.id === (at ?? props.chosen))?.id ?? rows[0]?.id;

  const toggle = (id: string, open: boolean) => {
    const next = new Set(closed);
    if (open) next.delete(id);
    else next.add(id);
    setClosed(next);
  };
  const focus = (row: Row<T> | undefined) => {
    if (!row) return;
    setAt(row.id);
    list.current?.querySelector<HTMLElement>(`[data-id="${CSS.escape(row.id)}"]`)?.focus();
  };
  const onKey = (event: KeyboardEvent, row: Row<T>, i: number) => {
    const act: Record<string, () => void> = {
      ArrowDown: () => focus(rows[i + 1]),
      ArrowUp: () => focus(rows[i - 1]),
      Home: () => focus(rows[0]),
      End: () => focus(rows[rows.length - 1]),
      ArrowRight: () => (row.branch && !row.open ? toggle(row.id, true) : focus(rows[i + 1])),
      ArrowLeft: () => (row.branch && row.open ? toggle(row.id, false) : focus(rows.find((r) => r.id === row.parent))),
      Enter: () => props.onChoose(row.id),
      " ": () => props.onChoose(row.id),
    };
    const action = act[event.key];
    if (!action) return;
    event.preventDefault();
    action();
  };
  return (
    <div role="tree" aria-label={props.label} ref={list}>
      {rows.map((row, i) => (
        <div
          key={row.id}
          data-id={row.id}
          role="treeitem"
          aria-level={row.depth + 1}
          aria-expanded={row.branch ? row.open : undefined}
          aria-selected={row.id === props.chosen}
          tabIndex={row.id === stop ? 0 : -1}
          className={`flex cursor-pointer items-baseline gap-1 border-b border-line py-1 pr-2 ${row.id === props.chosen ? "bg-wash" : "hover:bg-inset"}`}
          style={{ paddingLeft: `${0.25 + row.depth * 1.25}rem` }}
          onClick={() => {
            setAt(row.id);
            props.onChoose(row.id);
          }}
          onKeyDown={(event) => onKey(event, row, i)}
        >
          <span
            aria-hidden
            className="w-4 shrink-0 self-center text-soft"
            onClick={(event) => {
              if (!row.branch) return;
              event.stopPropagation();
              toggle(row.id, !row.open);
            }}
          >
            {row.branch && (row.open ? <ChevronDown className="size-4" /> : <ChevronRight className="size-4" />)}
          </span>
          {props.row(row.item)}
        </div>
      ))}
    </div>
  );
}

/** The rows that no closed branch hides, in order. */
function visible<T>(nodes: Node<T>[], closed: Set<string>): Row<T>[] {
  const children = new Map<string, Node<T>[]>();
  for (const node of nodes) children.set(node.parent, [...(children.get(node.parent) ?? []), node]);
  const rows: Row<T>[] = [];
  const visit = (parent: string, depth: number) => {
    for (const node of children.get(parent) ?? []) {
      const open = !closed.has(node.id);
      rows.push({ ...node, depth, open });
      if (open) visit(node.id, depth + 1);
    }
  };
  visit("", 0);
  return rows;
}
