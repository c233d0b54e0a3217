import { useEffect } from "react";
import { typing } from "../../ui/keys";
import { joins } from "./axis";
import type { Section } from "./queries";

const STEP = 1.06; // a press of left or right, in equal ratios

type Acts = {
  section: Section | undefined;
  chosen: string | null;
  cursor: number | null;
  viewpoints: string[];
  viewpoint: string;
  choose: (name: string) => void;
  move: (metres: number) => void;
  autopsy: () => void;
  back: () => void;
  look: (viewpoint: string) => void;
};

/** The sheet without a mouse: casters, distance, joins, autopsy, viewpoints. */
export function useReachKeys(acts: Acts) {
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (typing(e) || e.target instanceof HTMLButtonElement || e.target instanceof HTMLAnchorElement) return;
      if (act(e.key, acts)) e.preventDefault();
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  });
}

function act(key: string, a: Acts): boolean {
  const names = a.section?.casters.map((c) => c.name) ?? [];
  const at = names.indexOf(a.chosen ?? "");
  const ends = a.section ? joins(a.section) : [];
  const step = (by: number, of: string[], from: number, then: (name: string) => void) => {
    const next = of[Math.min(Math.max(from + by, 0), of.length - 1)];
    if (next !== undefined) then(next);
    return next !== undefined;
  };
  switch (key) {
    case "ArrowUp":
      return step(-1, names, at, a.choose);
    case "ArrowDown":
      return step(1, names, at, a.choose);
    case "ArrowLeft":
    case "ArrowRight":
      a.move((a.cursor ?? ends.at(-1) ?? 10) * (key === "ArrowRight" ? STEP : 1 / STEP));
      return true;
    case "Home":
    case "End": {
      const end = key === "Home" ? ends[0] : ends.at(-1);
      if (end !== undefined) a.move(end);
      return end !== undefined;
    }
    case "Enter":
      a.autopsy();
      return true;
    case "Escape":
      a.back();
      return true;
    case ",":
    case ".":
      return step(key === "." ? 1 : -1, a.viewpoints, a.viewpoints.indexOf(a.viewpoint), a.look);
  }
  return false;
}
