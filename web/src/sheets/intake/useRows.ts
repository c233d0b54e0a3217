import { type KeyboardEvent, useRef, useState } from "react";

/** Rows of a table that arrows move through: which has the focus, what is to be put on the table's body and on each row. Rows carry
 *  data-row; `press` is told of other keys and says whether it took one. */
export function useRows(count: number, press: (key: string, at: number, onRow: boolean) => boolean) {
  const [at, setAt] = useState(0);
  const body = useRef<HTMLTableSectionElement>(null);
  const move = (to: number) => {
    const next = Math.max(0, Math.min(count - 1, to));
    setAt(next);
    body.current?.querySelectorAll<HTMLElement>("tr[data-row]")[next]?.focus();
  };
  const onKeyDown = (e: KeyboardEvent<HTMLTableSectionElement>) => {
    if (e.ctrlKey || e.metaKey || e.altKey) return;
    if (e.key === "ArrowDown") move(at + 1);
    else if (e.key === "ArrowUp") move(at - 1);
    else if (!press(e.key, at, e.target instanceof HTMLTableRowElement)) return;
    e.preventDefault();
    e.stopPropagation();
  };
  return {
    at,
    body: { ref: body, onKeyDown },
    row: (i: number) => ({ "data-row": i, tabIndex: i === at ? 0 : -1, onFocus: () => setAt(i) }),
  };
}
