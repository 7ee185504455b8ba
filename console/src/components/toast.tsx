// Short notes that something was done. They never carry errors: those stay
// where they can be mended.
import { Toast } from "radix-ui";
import { createContext, useCallback, useContext, useState, type ReactNode } from "react";

const Tell = createContext<(text: string) => void>(() => {});
export const useToast = () => useContext(Tell);

export function Toasts({ children }: { children: ReactNode }) {
  const [notes, setNotes] = useState<{ id: number; text: string }[]>([]);
  const tell = useCallback((text: string) => setNotes((old) => [...old, { id: Date.now() + Math.random(), text }]), []);
  return (
    <Tell.Provider value={tell}>
      <Toast.Provider duration={5000}>
        {children}
        {notes.map((note) => (
          <Toast.Root key={note.id} className="appear border border-ink bg-sheet px-4 py-2.5 shadow-[3px_3px_0_var(--line)]" onOpenChange={(open) => !open && setNotes((old) => old.filter((n) => n.id !== note.id))}>
            <Toast.Description>{note.text}</Toast.Description>
          </Toast.Root>
        ))}
        <Toast.Viewport className="fixed right-6 bottom-6 z-50 grid w-96 max-w-[90vw] gap-2" />
      </Toast.Provider>
    </Tell.Provider>
  );
}
