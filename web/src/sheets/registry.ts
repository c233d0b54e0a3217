import { BENCH } from "./bench/sheet";
import { DRAW_ORDER } from "./draworder/sheet";
import { INTAKE } from "./intake/sheet";
import { LEDGER } from "./ledger/sheet";
import { LIGHT } from "./light/sheet";
import { LIGHTMAPS } from "./lightmaps/sheet";
import { SETUP } from "./setup/sheet";
import { SHADOW_REACH } from "./shadowreach/sheet";
import type { Sheet } from "./sheet";
import { SWEEP } from "./sweep/sheet";

/** The sheets of a build, in the order of the header. A new one is a folder and a line here. */
export const SHEETS: readonly Sheet[] = [
  INTAKE,
  SETUP,
  SWEEP,
  BENCH,
  LIGHTMAPS,
  DRAW_ORDER,
  SHADOW_REACH,
  LIGHT,
  LEDGER,
];
