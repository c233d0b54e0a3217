import type { ReactElement } from "react";

/** One sheet of a build, whole in its folder: header, routes and key help read this and nothing else. */
export type Sheet = {
  /** Its part of the address, after /p/:project/b/:build/. */
  path: string;
  name: string;
  /** Where it stands in the header: before the topics, among them (they fold into one menu where there is little room), or after. */
  group: "start" | "topic" | "end";
  /** Pages by their address below `path` ("" for the sheet itself). */
  pages: Record<string, ReactElement>;
  /** Its keys, each with what it does. */
  keys: readonly (readonly [string, string])[];
};
