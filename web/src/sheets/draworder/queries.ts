import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { buildPath, client, must, type Schemas } from "../../api/client";
import { keys } from "../../api/keys";
import type { Look } from "../look";

export type Walked = Schemas["WalkedDocument"];
export type Pop = Walked["pops"][number];
export type FrameOrder = Schemas["FrameOrderDocument"];
export type StrataOf = Schemas["StrataDocument"];
export type FloorOf = Schemas["FloorDocument"];
export type GlassOf = Schemas["GlassDocument"];
export type TableOf = Schemas["BuildPassTableDocument"];
export type ChainOf = Schemas["ChainDocument"];
export type EdgesOf = Schemas["AlphaEdgesDocument"];
export type OverdrawOf = Schemas["OverdrawDocument"];
export type ShadowsOf = Schemas["ShadowThroughDocument"];
export type EyesOf = Schemas["EyesDocument"];
export type Stratum = StrataOf["strata"][number];

const ONCE = { retry: false, staleTime: Number.POSITIVE_INFINITY } as const;
const SHEET = "/api/projects/{project_id}/builds/{number}/layers/{viewpoint}";
const pathOf = (l: Look) => ({ project_id: l.project, number: l.build, viewpoint: l.viewpoint });
const asSeen = (l: Look) => ({ target: l.target, state: l.state });

/** The draw order at the viewpoint, and the pairs that are off there. */
export const useOrder = (l: Look) =>
  useQuery({
    ...ONCE,
    queryKey: keys.layers(l, "order", null),
    enabled: l.viewpoint !== "",
    queryFn: ({ signal }) =>
      must(client.GET(`${SHEET}/order`, { params: { path: pathOf(l), query: asSeen(l) }, signal })),
  });

/** The draw order along a move, once one is picked. */
export const useWalk = (l: Look, move: string | null) =>
  useQuery({
    ...ONCE,
    queryKey: keys.layers(l, "walk", move),
    enabled: l.viewpoint !== "" && move !== null,
    queryFn: ({ signal }) =>
      must(
        client.GET(`${SHEET}/walk`, {
          params: { path: pathOf(l), query: { ...asSeen(l), move: move ?? "" } },
          signal,
        }),
      ),
  });

/** Where on the floor pairs are drawn in the wrong order, once it is wanted. */
export const useFloor = (l: Look, wanted: boolean) =>
  useQuery({
    ...ONCE,
    queryKey: keys.layers(l, "floor", null),
    enabled: wanted && l.viewpoint !== "",
    queryFn: ({ signal }) =>
      must(client.GET(`${SHEET}/floor`, { params: { path: pathOf(l), query: asSeen(l) }, signal })),
  });

/** What is looked at: the viewpoint itself, or a moment of a move. */
export type Pose = { move: string | null; at_s: number };

/** The layers of a pixel of what is looked at. */
export const useStrata = (l: Look, pose: Pose, at: [number, number] | null) =>
  useQuery({
    ...ONCE,
    queryKey: keys.layers(l, "strata", `${pose.move} ${pose.at_s.toFixed(4)} ${at?.join(",")}`),
    enabled: l.viewpoint !== "" && at !== null,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      must(
        client.GET(`${SHEET}/strata`, {
          params: { path: pathOf(l), query: { ...asSeen(l), ...pose, x: at?.[0] ?? 0, y: at?.[1] ?? 0 } },
          signal,
        }),
      ),
  });

/** What is lost behind what lets light through, at the viewpoint. */
export const useGlass = (l: Look) =>
  useQuery({
    ...ONCE,
    queryKey: keys.layers(l, "glass", null),
    enabled: l.viewpoint !== "",
    queryFn: ({ signal }) =>
      must(client.GET(`${SHEET}/glass`, { params: { path: pathOf(l), query: asSeen(l) }, signal })),
  });

/** What each material takes part in at the viewpoint, once it is wanted. */
export const usePassTable = (l: Look, wanted: boolean) =>
  useQuery({
    ...ONCE,
    queryKey: keys.layers(l, "pass-table", null),
    enabled: wanted && l.viewpoint !== "",
    queryFn: ({ signal }) =>
      must(client.GET(`${SHEET}/pass-table`, { params: { path: pathOf(l), query: asSeen(l) }, signal })),
  });

/** Edges of what has alpha at the viewpoint, once they are wanted. */
export const useEdges = (l: Look, wanted: boolean) =>
  useQuery({
    ...ONCE,
    queryKey: keys.layers(l, "edges", null),
    enabled: wanted && l.viewpoint !== "",
    queryFn: ({ signal }) =>
      must(client.GET(`${SHEET}/edges`, { params: { path: pathOf(l), query: asSeen(l) }, signal })),
  });

/** Blended fragments of the viewpoint's frame, once they are wanted. */
export const useOverdraw = (l: Look, wanted: boolean) =>
  useQuery({
    ...ONCE,
    queryKey: keys.layers(l, "overdraw", null),
    enabled: wanted && l.viewpoint !== "",
    queryFn: ({ signal }) =>
      must(client.GET(`${SHEET}/overdraw`, { params: { path: pathOf(l), query: asSeen(l) }, signal })),
  });

/** What is blended and throws no shadow at the viewpoint, once it is wanted. */
export const useShadowThrough = (l: Look, wanted: boolean) =>
  useQuery({
    ...ONCE,
    queryKey: keys.layers(l, "shadow-through", null),
    enabled: wanted && l.viewpoint !== "",
    queryFn: ({ signal }) =>
      must(client.GET(`${SHEET}/shadow-through`, { params: { path: pathOf(l), query: asSeen(l) }, signal })),
  });

/** Where two eyes draw blended things in different orders, along a move or at the viewpoint. */
export const useEyes = (l: Look, move: string | null) =>
  useQuery({
    ...ONCE,
    queryKey: keys.layers(l, "eyes", move),
    enabled: l.viewpoint !== "",
    queryFn: ({ signal }) =>
      must(
        client.GET(`${SHEET}/eyes`, {
          params: { path: pathOf(l), query: { ...asSeen(l), ...(move === null ? {} : { move }) } },
          signal,
        }),
      ),
  });

/** The chain of the glass in a pixel of what is looked at, if any is there. */
export const useChain = (l: Look, pose: Pose, at: [number, number] | null) =>
  useQuery({
    ...ONCE,
    queryKey: keys.layers(l, "chain", `${pose.move} ${pose.at_s.toFixed(4)} ${at?.join(",")}`),
    enabled: l.viewpoint !== "" && at !== null,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      must(
        client.GET(`${SHEET}/chain`, {
          params: { path: pathOf(l), query: { ...asSeen(l), ...pose, x: at?.[0] ?? 0, y: at?.[1] ?? 0 } },
          signal,
        }),
      ),
  });

/** Address of a picture of what is looked at: as drawn, with all layers in their true order, or with edges put right. */
export const pictureUrl = (l: Look, pose: Pose, shown: "drawn" | "true" | "right") =>
  `${buildPath(l.project, l.build)}/layers/${encodeURIComponent(l.viewpoint)}/picture?${new URLSearchParams({
    shown,
    state: l.state,
    stamp: l.stamp,
    ...(pose.move === null ? {} : { move: pose.move, at_s: pose.at_s.toFixed(5) }),
    ...(l.target ? { target: l.target } : {}),
  })}`;
