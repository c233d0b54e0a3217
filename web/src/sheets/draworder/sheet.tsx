import type { Sheet } from "../sheet";
import { DrawOrder } from "./DrawOrder";

export const DRAW_ORDER: Sheet = {
  path: "draw-order",
  name: "Draw order",
  group: "topic",
  pages: { "": <DrawOrder /> },
  keys: [
    ["← →", "along the move (Shift: ten moments)"],
    ["↑ ↓", "the change of places before, after"],
    ["N", "the next pop, from the beginning after the last"],
    ["P", "into the frame: arrows then move the pixel (Shift: ten), Esc leaves it"],
    ["Enter", "open a case of it"],
    ["B", "hold: as it was before what is kept"],
    [", .", "previous, next viewpoint"],
  ],
};
