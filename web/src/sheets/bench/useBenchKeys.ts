import { useEffect, useRef } from "react";
import { typing } from "../../ui/keys";

export type Acts = {
  before: (held: boolean) => void;
  lineUp: () => void;
  keep: () => void;
  drop: () => void;
  trial: (step: number) => void;
  viewpoint: (step: number) => void;
  loupe: () => void;
  back: () => void;
};

/** The keys of the Bench; none of them while a field has the focus. */
export function useBenchKeys(acts: Acts) {
  const now = useRef(acts);
  now.current = acts;
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (typing(e) || document.querySelector("dialog[open]")) return;
      const a = now.current;
      const does: Record<string, () => void> = {
        b: () => a.before(true),
        l: a.lineUp,
        k: a.keep,
        d: a.drop,
        "[": () => a.trial(-1),
        "]": () => a.trial(1),
        ",": () => a.viewpoint(-1),
        ".": () => a.viewpoint(1),
        g: a.loupe,
        Escape: a.back,
      };
      const act = does[e.key.length === 1 ? e.key.toLowerCase() : e.key];
      if (act && !(e.repeat && e.key !== "[" && e.key !== "]")) act();
    };
    const release = (e: KeyboardEvent) => e.key.toLowerCase() === "b" && now.current.before(false);
    window.addEventListener("keydown", press);
    window.addEventListener("keyup", release);
    return () => {
      window.removeEventListener("keydown", press);
      window.removeEventListener("keyup", release);
    };
  }, []);
}
