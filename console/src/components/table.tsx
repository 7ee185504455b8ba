// The one table: filter, sort, and what to say when there is nothing, not yet
// anything, or an error.
import { useMemo, useState, type ReactNode } from "react";
import { Empty, Loading, TextInput, Trouble } from "./ui";

export type Column<T> = {
  head: string;
  cell: (item: T) => ReactNode;
  /** What the column is sorted and filtered by; a column without it is neither. */
  by?: (item: T) => string | number;
  right?: boolean;
  wide?: boolean;
};

/** What was read, or why it was not. */
export type Rows<T> = { data: T[] | undefined; error: unknown; isPending: boolean; refetch: () => unknown };

/** Rows drawn at once; more are found by filtering, or shown on request. */
const step = 300;

export function DataTable<T>(props: { what: string; query: Rows<T>; columns: Column<T>[]; keyOf: (item: T) => string; empty: ReactNode; emptyAction?: ReactNode }) {
  const { data, error, isPending, refetch } = props.query;
  const [filter, setFilter] = useState("");
  const [sort, setSort] = useState<{ column: number; down: boolean }>();
  const [most, setMost] = useState(step);
  const rows = useMemo(() => arrange(data ?? [], props.columns, filter, sort), [data, props.columns, filter, sort]);
  if (isPending) return <Loading what={props.what} />;
  if (error && !data) return <Trouble error={error} retry={() => void refetch()} />;
  if (data?.length === 0) return <Empty action={props.emptyAction}>{props.empty}</Empty>;
  return (
    <div>
      <div className="mb-1.5 flex items-baseline gap-3">
        <TextInput type="search" aria-label={`Filter ${props.what}`} placeholder={`Filter ${props.what}`} value={filter} onChange={(e) => setFilter(e.target.value)} className="max-w-64" />
        <span className="text-sm text-soft" role="status">
          {rows.length === data?.length ? `${rows.length}` : `${rows.length} of ${data?.length}`} {data?.length === 1 ? props.what.replace(/s$/, "") : props.what}
        </span>
      </div>
      <div className="overflow-x-auto" tabIndex={0} role="group" aria-label={props.what}>
        <table className="w-full border-collapse">
          <thead>
            <tr className="border-y border-ink">
              {props.columns.map((column, i) => (
                <HeadCell key={column.head} column={column} sorted={sort?.column === i ? (sort.down ? "descending" : "ascending") : "none"} onSort={() => setSort({ column: i, down: sort?.column === i && !sort.down })} />
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.slice(0, most).map((item) => (
              <tr key={props.keyOf(item)} className="border-b border-line align-baseline hover:bg-inset">
                {props.columns.map((column) => (
                  <td key={column.head} className={`py-1.5 pr-4 pl-1 ${column.right ? "text-right" : ""} ${column.wide ? "w-full" : "whitespace-nowrap"}`}>
                    {column.cell(item)}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {rows.length === 0 && <p className="py-4 text-soft">Nothing matches “{filter}”.</p>}
      {rows.length > most && (
        <button className="mt-2 text-span underline underline-offset-2" onClick={() => setMost(most + step)}>
          Show more ({rows.length - most} not shown)
        </button>
      )}
    </div>
  );
}

function HeadCell<T>({ column, sorted, onSort }: { column: Column<T>; sorted: "ascending" | "descending" | "none"; onSort: () => void }) {
  const mark = { ascending: " ↑", descending: " ↓", none: "" }[sorted];
  return (
    <th scope="col" aria-sort={column.by ? sorted : undefined} className={`py-1 pr-4 pl-1 text-sm font-medium whitespace-nowrap text-soft ${column.right ? "text-right" : "text-left"}`}>
      {column.by ? (
        <button className="hover:text-ink" onClick={onSort}>
          {column.head}
          {mark}
        </button>
      ) : (
        column.head
      )}
    </th>
  );
}

function arrange<T>(items: T[], columns: Column<T>[], filter: string, sort: { column: number; down: boolean } | undefined): T[] {
  const wanted = filter.trim().toLowerCase();
  const keys = columns.flatMap((c) => (c.by ? [c.by] : []));
  const kept = wanted ? items.filter((item) => keys.some((key) => String(key(item)).toLowerCase().includes(wanted))) : items;
  const by = sort && columns[sort.column]?.by;
  if (!by) return kept;
  const order = (a: T, b: T) => {
    const [x, y] = [by(a), by(b)];
    return typeof x === "number" && typeof y === "number" ? x - y : String(x).localeCompare(String(y));
  };
  return [...kept].sort((a, b) => (sort.down ? order(b, a) : order(a, b)));
}
