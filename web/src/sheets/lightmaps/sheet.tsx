import type { Sheet } from "../sheet";
import { Asset } from "./Asset";
import { Lightmaps } from "./Lightmaps";

export const LIGHTMAPS: Sheet = {
  path: "lightmaps",
  name: "Lightmaps",
  group: "topic",
  pages: { "": <Lightmaps />, ":asset": <Asset /> },
  keys: [["B", "hold: as it was before what is kept"]],
};
