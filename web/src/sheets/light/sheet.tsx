import type { Sheet } from "../sheet";
import { LightAndColour } from "./LightAndColour";

export const LIGHT: Sheet = {
  path: "light",
  name: "Light and colour",
  group: "topic",
  pages: { "": <LightAndColour /> },
  keys: [
    ["← →", "move the wipe between frame and reference"],
    ["Esc", "the whole frame again"],
    ["B", "hold: as it was before what is kept"],
    [", .", "previous, next viewpoint"],
  ],
};
