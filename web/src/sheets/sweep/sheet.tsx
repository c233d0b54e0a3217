import type { Sheet } from "../sheet";
import { SweepSheet } from "./Sweep";

export const SWEEP: Sheet = {
  path: "sweep",
  name: "Sweep",
  group: "start",
  pages: { "": <SweepSheet /> },
  keys: [],
};
