// What somebody is typing over something that others may change meanwhile: what
// they changed and nobody here touched is taken over; what both changed stays as
// typed, and says what the others made of it.
import { useEffect, useState } from "react";

type Fields = Record<string, string | number | boolean>;

export function useDraft<T extends Fields>(read: T) {
  const [base, setBase] = useState(read);
  const [mine, setMine] = useState(read);
  const [theirs, setTheirs] = useState<Partial<T>>({});
  const now = JSON.stringify(read);
  useEffect(() => {
    const fresh = JSON.parse(now) as T;
    const names = Object.keys(fresh) as (keyof T)[];
    const changed = names.filter((name) => fresh[name] !== base[name]);
    if (changed.length === 0) return;
    const both = changed.filter((name) => mine[name] !== base[name] && mine[name] !== fresh[name]);
    setMine({ ...mine, ...Object.fromEntries(changed.filter((name) => !both.includes(name)).map((name) => [name, fresh[name]])) });
    setTheirs({ ...theirs, ...Object.fromEntries(changed.map((name) => [name, fresh[name]])) });
    setBase(fresh);
    // Only what was read counts as news; typing is none.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [now]);
  const set = <K extends keyof T>(name: K, value: T[K]) => setMine((m) => ({ ...m, [name]: value }));
  return { values: mine, set, theirs };
}

/** Says what others changed meanwhile, and lets theirs be taken. */
export function Meanwhile<T extends Fields>({ draft, names }: { draft: ReturnType<typeof useDraft<T>>; names: Partial<Record<keyof T, string>> }) {
  const changed = Object.keys(draft.theirs) as (keyof T & string)[];
  if (changed.length === 0) return null;
  return (
    <div role="status" className="border-l-4 border-l-warn bg-wash px-3 py-2">
      <p className="font-medium">Somebody else changed this meanwhile.</p>
      <ul>
        {changed.map((name) => {
          const taken = draft.values[name] === draft.theirs[name];
          return (
            <li key={name} className="flex flex-wrap items-baseline gap-x-3">
              <span>{names[name] ?? name}: <q className="break-words">{String(draft.theirs[name]) || "nothing"}</q>{taken ? ", taken over" : "; yours replaces it when you save"}</span>
              {!taken && <button type="button" className="text-span underline underline-offset-2" onClick={() => draft.set(name, draft.theirs[name] as T[typeof name])}>Take theirs</button>}
            </li>
          );
        })}
      </ul>
    </div>
  );
}
