import { useEffect, useRef } from "react";
import { typing } from "../../ui/keys";

/** B held: how the build came in. */
export function useBeforeKey(hold: (held: boolean) => void) {
  const now = useRef(hold);
  now.current = hold;
  useEffect(() => {
    const press = (e: KeyboardEvent) =>
      e.key.toLowerCase() === "b" && !e.repeat && !typing(e) && now.current(true);
    const release = (e: KeyboardEvent) => e.key.toLowerCase() === "b" && now.current(false);
    window.addEventListener("keydown", press);
    window.addEventListener("keyup", release);
    return () => {
      window.removeEventListener("keydown", press);
      window.removeEventListener("keyup", release);
    };
  }, []);
}
