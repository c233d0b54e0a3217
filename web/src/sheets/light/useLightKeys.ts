import { useEffect } from "react";
import { typing } from "../../ui/keys";

type Acts = {
  viewpoints: string[];
  viewpoint: string;
  look: (viewpoint: string) => void;
  wipe: (by: number) => void;
  whole: () => void;
};

/** The sheet without a mouse: the wipe, viewpoints, the whole frame. */
export function useLightKeys(acts: Acts) {
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      const on = e.target;
      if (typing(e) || on instanceof HTMLButtonElement || on instanceof HTMLAnchorElement) return;
      if (on instanceof HTMLElement && on.getAttribute("role") === "slider") return;
      if (act(e.key, acts)) e.preventDefault();
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  });
}

function act(key: string, a: Acts): boolean {
  const at = a.viewpoints.indexOf(a.viewpoint);
  switch (key) {
    case "ArrowLeft":
    case "ArrowRight":
      a.wipe(key === "ArrowLeft" ? -0.02 : 0.02);
      return true;
    case "Escape":
      a.whole();
      return true;
    case ",":
    case ".": {
      const next = a.viewpoints[at + (key === "." ? 1 : -1)];
      if (next !== undefined) a.look(next);
      return next !== undefined;
    }
  }
  return false;
}
