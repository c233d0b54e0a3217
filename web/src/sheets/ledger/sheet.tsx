import type { Sheet } from "../sheet";
import { Ledger } from "./Ledger";

export const LEDGER: Sheet = {
  path: "ledger",
  name: "Ledger",
  group: "end",
  pages: { "": <Ledger /> },
  keys: [],
};
