import { type ReactNode, useEffect, useRef, useState } from "react";

/** A button that opens a list of links and buttons below it; Escape and a click elsewhere close it. */
export function Menu({ label, name, children }: { label: ReactNode; name: string; children: ReactNode }) {
  const [open, setOpen] = useState(false);
  const room = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (!open) return;
    const away = (e: MouseEvent) => !room.current?.contains(e.target as Node) && setOpen(false);
    const shut = (e: KeyboardEvent) => e.key === "Escape" && setOpen(false);
    window.addEventListener("mousedown", away);
    window.addEventListener("keydown", shut);
    return () => {
      window.removeEventListener("mousedown", away);
      window.removeEventListener("keydown", shut);
    };
  }, [open]);
  return (
    <div ref={room} className="relative">
      <button
        type="button"
        className="btn btn-sm btn-ghost"
        aria-expanded={open}
        aria-label={name}
        onClick={() => setOpen(!open)}
      >
        {label} <span aria-hidden="true">▾</span>
      </button>
      {open && (
        // biome-ignore lint/a11y/noStaticElementInteractions: the items take the keys; a click on any of them also closes the list
        // biome-ignore lint/a11y/useKeyWithClickEvents: the same
        <div
          className="absolute right-0 top-full z-20 mt-1 min-w-[170px] bg-base-100 border border-base-content flex flex-col py-1"
          onClick={() => setOpen(false)}
        >
          {children}
        </div>
      )}
    </div>
  );
}

export const MENU_ITEM = "px-3 py-2 text-left hover:bg-base-200 font-semibold";
