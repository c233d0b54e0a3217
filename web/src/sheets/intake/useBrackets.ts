import { useEffect } from "react";
import { typing } from "../../ui/keys";

/** [ and ] step through a list of `count`, round and round. */
export function useBrackets(count: number, step: (change: (now: number) => number) => void) {
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      const by = e.key === "[" ? -1 : e.key === "]" ? 1 : 0;
      if (by && count && !typing(e)) step((now) => (now + by + count) % count);
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [count, step]);
}
