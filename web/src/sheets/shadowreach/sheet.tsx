import type { Sheet } from "../sheet";
import { ShadowReach } from "./ShadowReach";

export const SHADOW_REACH: Sheet = {
  path: "shadow-reach",
  name: "Shadow reach",
  group: "topic",
  pages: { "": <ShadowReach /> },
  keys: [
    ["↑ ↓", "previous, next caster"],
    ["← →", "nearer, farther along the section"],
    ["Home End", "first, last join"],
    ["Enter", "autopsy of the caster's shadow"],
    ["B", "hold: as it was before what is kept"],
    [", .", "previous, next viewpoint"],
  ],
};
