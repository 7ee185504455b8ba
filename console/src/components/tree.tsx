// The one tree, with the keys that trees have (WAI-ARIA tree pattern): arrows
// move, open and close; Home and End jump; Enter chooses. Nodes can be dragged
// onto branches. However many there are, only those in sight are drawn.
import { useVirtualizer } from "@tanstack/react-virtual";
import { ChevronDown, ChevronRight } from "lucide-react";
import { useEffect, useMemo, useRef, useState, type DragEvent, type KeyboardEvent, type ReactNode } from "react";

export type Node<T> = { id: string; parent: string; item: T; branch: boolean };

type Row<T> = Node<T> & { depth: number; open: boolean };

type Props<T> = {
  label: string;
  nodes: Node<T>[];
  chosen?: string;
  onChoose: (id: string) => void;
  row: (item: T) => ReactNode;
  /** Whether a node can be moved onto another one; absent when nothing moves. */
  mayMove?: (item: T, onto: T) => boolean;
  onMove?: (item: T, onto: T) => void;
};

/** From so many rows on the tree scrolls by itself and draws what is in sight. */
const many = 300;
const rowHeight = 33;

export function Tree<T>(props: Props<T>) {
  const [closed, setClosed] = useState<Set<string>>(new Set());
  const [at, setAt] = useState<string>();
  const wanted = useRef<string>(undefined);
  const [dragged, setDragged] = useState<Row<T>>();
  const list = useRef<HTMLDivElement>(null);
  const rows = useMemo(() => visible(props.nodes, closed), [props.nodes, closed]);
  const stop = rows.find((r) => r.id === (at ?? props.chosen))?.id ?? rows[0]?.id;
  const scrolls = rows.length > many;
  const virtual = useVirtualizer({ count: rows.length, enabled: scrolls, getScrollElement: () => list.current, estimateSize: () => rowHeight, overscan: 20 });

  const focus = (row: Row<T> | undefined) => {
    if (!row) return;
    setAt(row.id);
    wanted.current = row.id;
    if (scrolls) virtual.scrollToIndex(rows.indexOf(row));
  };
  // A row that was out of sight can be focused once it is drawn.
  useEffect(() => {
    if (wanted.current === undefined) return;
    const line = list.current?.querySelector<HTMLElement>(`[data-id="${CSS.escape(wanted.current)}"]`);
    if (!line) return;
    line.focus();
    wanted.current = undefined;
  });
  const toggle = (id: string, open: boolean) => {
    const next = new Set(closed);
    if (open) next.delete(id);
    else next.add(id);
    setClosed(next);
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
  const line = (row: Row<T>, i: number) => (
    <Line
      key={row.id}
      row={row}
      chosen={row.id === props.chosen}
      stop={row.id === stop}
      place={scrolls ? [i + 1, rows.length] : undefined}
      onChoose={() => {
        setAt(row.id);
        props.onChoose(row.id);
      }}
      onToggle={() => toggle(row.id, !row.open)}
      onKey={(event) => onKey(event, row, i)}
      onDrag={props.onMove && ((begins) => setDragged(begins ? row : undefined))}
      takes={dragged !== undefined && dragged.id !== row.id && (props.mayMove?.(dragged.item, row.item) ?? false)}
      onDrop={() => dragged && props.onMove?.(dragged.item, row.item)}
    >
      {props.row(row.item)}
    </Line>
  );
  if (!scrolls) return <div role="tree" aria-label={props.label} ref={list}>{rows.map(line)}</div>;
  return (
    <div role="tree" aria-label={props.label} ref={list} className="h-[70vh] overflow-auto border-b border-line">
      <div role="none" className="relative" style={{ height: virtual.getTotalSize() }}>
        {virtual.getVirtualItems().map((v) => {
          const row = rows[v.index];
          return row && <div role="none" key={v.key} className="absolute inset-x-0" style={{ top: v.start, height: rowHeight }}>{line(row, v.index)}</div>;
        })}
      </div>
    </div>
  );
}

type LineProps<T> = {
  row: Row<T>;
  chosen: boolean;
  stop: boolean;
  place?: [number, number];
  takes: boolean;
  onChoose: () => void;
  onToggle: () => void;
  onKey: (event: KeyboardEvent) => void;
  onDrag?: (begins: boolean) => void;
  onDrop: () => void;
  children: ReactNode;
};

function Line<T>({ row, chosen, stop, place, takes, onChoose, onToggle, onKey, onDrag, onDrop, children }: LineProps<T>) {
  const [over, setOver] = useState(false);
  const drag = onDrag && {
    draggable: true,
    onDragStart: (event: DragEvent) => {
      event.dataTransfer.effectAllowed = "move";
      event.dataTransfer.setData("text/plain", row.id);
      onDrag(true);
    },
    onDragEnd: () => onDrag(false),
    onDragOver: (event: DragEvent) => {
      if (!takes) return;
      event.preventDefault();
      setOver(true);
    },
    onDragLeave: () => setOver(false),
    onDrop: (event: DragEvent) => {
      event.preventDefault();
      setOver(false);
      if (takes) onDrop();
    },
  };
  return (
    <div
      data-id={row.id}
      role="treeitem"
      aria-level={row.depth + 1}
      aria-expanded={row.branch ? row.open : undefined}
      aria-selected={chosen}
      aria-posinset={place?.[0]}
      aria-setsize={place?.[1]}
      tabIndex={stop ? 0 : -1}
      className={`flex cursor-pointer items-baseline gap-1 border-b border-line py-1 pr-2 ${chosen || over ? "bg-wash" : "hover:bg-inset"} ${over ? "outline-2 outline-span" : ""}`}
      style={{ paddingLeft: `${0.25 + row.depth * 1.25}rem` }}
      onClick={onChoose}
      onKeyDown={onKey}
      {...drag}
    >
      <span
        aria-hidden
        className="w-4 shrink-0 self-center text-soft"
        onClick={(event) => {
          if (!row.branch) return;
          event.stopPropagation();
          onToggle();
        }}
      >
        {row.branch && (row.open ? <ChevronDown className="size-4" /> : <ChevronRight className="size-4" />)}
      </span>
      {children}
    </div>
  );
}

/** The rows that no closed branch hides, in order. */
function visible<T>(nodes: Node<T>[], closed: Set<string>): Row<T>[] {
  const children = new Map<string, Node<T>[]>();
  for (const node of nodes) {
    const siblings = children.get(node.parent);
    if (siblings) siblings.push(node);
    else children.set(node.parent, [node]);
  }
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
