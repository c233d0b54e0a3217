import { useEffect } from "react";
import { typing } from "../../ui/keys";
import { HIGH, WIDE } from "../pixel";

type Acts = {
  viewpoints: string[];
  viewpoint: string;
  look: (viewpoint: string) => void;
  time: (by: number) => void;
  pop: (by: number) => void;
  next: () => void;
  open: () => void;
  /** The pixel that arrows move; null: they move along the move. */
  pixel: [number, number] | null;
  setPixel: (at: [number, number] | null) => void;
};

const ARROWS: Record<string, [number, number]> = {
  ArrowLeft: [-1, 0],
  ArrowRight: [1, 0],
  ArrowUp: [0, -1],
  ArrowDown: [0, 1],
};

/** The sheet without a mouse. */
export function useOrderKeys(acts: Acts) {
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      const on = e.target;
      if (typing(e) || on instanceof HTMLButtonElement || on instanceof HTMLAnchorElement) return;
      if (on instanceof HTMLElement && on.getAttribute("role") === "slider") return;
      if (act(e.key, e.shiftKey ? 10 : 1, acts)) e.preventDefault();
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  });
}

function act(key: string, step: number, a: Acts): boolean {
  const arrow = ARROWS[key];
  if (arrow && a.pixel) {
    const [x, y] = [a.pixel[0] + arrow[0] * step, a.pixel[1] + arrow[1] * step];
    a.setPixel([Math.min(Math.max(x, 0), WIDE - 1), Math.min(Math.max(y, 0), HIGH - 1)]);
    return true;
  }
  if (arrow) {
    arrow[0] !== 0 ? a.time(arrow[0] * step) : a.pop(arrow[1]);
    return true;
  }
  switch (key) {
    case "n":
    case "N":
      a.next();
      return true;
    case "p":
    case "P":
      a.setPixel(a.pixel ?? [WIDE / 2, HIGH / 2]);
      return true;
    case "Escape":
      a.setPixel(null);
      return a.pixel !== null;
    case "Enter":
      a.open();
      return true;
    case ",":
    case ".": {
      const next = a.viewpoints[a.viewpoints.indexOf(a.viewpoint) + (key === "." ? 1 : -1)];
      if (next !== undefined) a.look(next);
      return next !== undefined;
    }
  }
  return false;
}
