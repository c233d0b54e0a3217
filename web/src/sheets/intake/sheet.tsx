import type { Sheet } from "../sheet";
import { Intake } from "./Intake";

export const INTAKE: Sheet = {
  path: "intake",
  name: "Intake",
  group: "start",
  pages: { "": <Intake /> },
  keys: [],
};
