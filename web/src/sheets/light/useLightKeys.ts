import { type RefObject, useEffect } from "react";
import { typing } from "../../ui/keys";
import type { GaugeActs } from "./TideGauge";

type Acts = {
  viewpoints: string[];
  viewpoint: string;
  look: (viewpoint: string) => void;
  wipe: (by: number) => void;
  whole: () => void;
  /** While a move is looked along, arrows go along it. */
  gauge: RefObject<GaugeActs | null>;
};

/** The sheet without a mouse: the wipe or the moment of a move, viewpoints, the whole frame. */
export function useLightKeys(acts: Acts) {
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      const on = e.target;
      if (typing(e) || on instanceof HTMLButtonElement || on instanceof HTMLAnchorElement) return;
      if (on instanceof HTMLElement && on.getAttribute("role") === "slider") return;
      if (act(e.key, e.shiftKey, acts)) e.preventDefault();
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  });
}

function act(key: string, shift: boolean, a: Acts): boolean {
  const gauge = a.gauge.current;
  const at = a.viewpoints.indexOf(a.viewpoint);
  switch (key) {
    case "ArrowLeft":
    case "ArrowRight":
      if (gauge) gauge.time((key === "ArrowLeft" ? -1 : 1) * (shift ? 10 : 1));
      else a.wipe(key === "ArrowLeft" ? -0.02 : 0.02);
      return true;
    case "n":
    case "N":
      gauge?.next();
      return gauge !== null;
    case "Enter":
      gauge?.open();
      return gauge !== null;
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
