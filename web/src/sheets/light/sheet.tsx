import type { Sheet } from "../sheet";
import { LightAndColour } from "./LightAndColour";

export const LIGHT: Sheet = {
  path: "light",
  name: "Light and colour",
  group: "topic",
  pages: { "": <LightAndColour /> },
  keys: [
    ["← →", "move the wipe between frame and reference; along a move, the moment (Shift: ten)"],
    ["N", "along a move: the next moment beyond the limit"],
    ["Enter", "along a move: open a case of it"],
    ["Esc", "the whole frame again"],
    ["B", "hold: as it was before what is kept"],
    [", .", "previous, next viewpoint"],
  ],
};
