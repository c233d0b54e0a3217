import type { Sheet } from "../sheet";
import { Setup } from "./Setup";

export const SETUP: Sheet = {
  path: "set-up",
  name: "Set-up",
  group: "start",
  pages: { "": <Setup /> },
  keys: [],
};
