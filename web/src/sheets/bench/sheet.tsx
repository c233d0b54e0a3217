import type { Sheet } from "../sheet";
import { Bench } from "./Bench";
import { Cases } from "./Cases";

export const BENCH: Sheet = {
  path: "bench",
  name: "Bench",
  group: "start",
  pages: { "": <Cases />, ":case": <Bench /> },
  keys: [
    ["B", "hold: as it was before the trial"],
    ["L", "run the line-up"],
    ["K", "keep the chosen change"],
    ["D", "drop the last kept change"],
    ["[ ]", "previous, next trial"],
    [", .", "previous, next viewpoint"],
    ["G", "loupe"],
    ["Esc", "back up the sounding line"],
  ],
};
