import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { buildPath, client, must, type Schemas } from "../../api/client";
import { keys } from "../../api/keys";
import type { Look } from "../look";

export type Account = Schemas["AccountDocument"];
export type Row = Account["rows"][number];
export type Noise = Account["noise"];
export type WhereOf = Schemas["WhereDocument"];
export type Region = [number, number, number, number];
export type Differing = Schemas["DifferingDocument"];
export type Reflections = Schemas["ReflectionsDocument"];
export type Probe = Reflections["probes"][number];
export type DialsOf = Schemas["DialsDocument"];
export type MaterialAnswer = Schemas["MaterialAnswerDocument"];
export type Along = Schemas["AlongDocument"];
export type Moment = Along["moments"][number];

/** What was measured on a version of a build is asked for once. */
const ONCE = { retry: false, staleTime: Number.POSITIVE_INFINITY } as const;
const SHEET = "/api/projects/{project_id}/builds/{number}/light/{viewpoint}";
const pathOf = (l: Look) => ({ project_id: l.project, number: l.build, viewpoint: l.viewpoint });
const asSeen = (l: Look) => ({ target: l.target, state: l.state });
const written = (region: Region | null) => region?.join(",") ?? null;

/** The account at so many samples, of the frame or of a region of it. The server goes on from the samples that are there. */
export const useAccount = (l: Look, samples: number, region: Region | null) =>
  useQuery({
    ...ONCE,
    queryKey: keys.light(l, "account", `${samples} ${written(region)}`),
    enabled: l.viewpoint !== "",
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      must(
        client.GET(`${SHEET}/account`, {
          params: { path: pathOf(l), query: { ...asSeen(l), samples, region: written(region) } },
          signal,
        }),
      ),
  });

/** Where the light is, once it is wanted. */
export const useWhere = (l: Look, region: Region | null, wanted: boolean) =>
  useQuery({
    ...ONCE,
    queryKey: keys.light(l, "where", written(region)),
    enabled: wanted,
    queryFn: ({ signal }) =>
      must(
        client.GET(`${SHEET}/where`, {
          params: { path: pathOf(l), query: { ...asSeen(l), samples: 32, region: written(region) } },
          signal,
        }),
      ),
  });

/** What occlusion, bounce and reflection hold in memory there. */
export const useTargets = (l: Look) =>
  useQuery({
    ...ONCE,
    queryKey: keys.light(l, "held", null),
    enabled: l.viewpoint !== "",
    queryFn: ({ signal }) =>
      must(client.GET(`${SHEET}/targets`, { params: { path: pathOf(l), query: asSeen(l) }, signal })),
  });

/** Two roles side by side, once it is wanted. */
export const useRoles = (l: Look, region: Region | null, first: string, second: string, wanted: boolean) =>
  useQuery({
    ...ONCE,
    queryKey: keys.light(l, "roles", `${first} ${second} ${written(region)}`),
    enabled: wanted && l.viewpoint !== "",
    queryFn: ({ signal }) =>
      must(
        client.GET(`${SHEET}/roles`, {
          params: { path: pathOf(l), query: { ...asSeen(l), first, second, region: written(region) } },
          signal,
        }),
      ),
  });

/** Reflection probes and planar mirrors as they are seen there, once it is wanted. */
export const useReflections = (l: Look, wanted: boolean) =>
  useQuery({
    ...ONCE,
    queryKey: keys.light(l, "probes", null),
    enabled: wanted && l.viewpoint !== "",
    queryFn: ({ signal }) =>
      must(client.GET(`${SHEET}/probes`, { params: { path: pathOf(l), query: asSeen(l) }, signal })),
  });

/** What each dial of bounce and reflection buys there, once it is wanted. */
export const useDials = (l: Look, wanted: boolean) =>
  useQuery({
    ...ONCE,
    queryKey: keys.light(l, "dials", null),
    enabled: wanted && l.viewpoint !== "",
    queryFn: ({ signal }) =>
      must(client.GET(`${SHEET}/dials`, { params: { path: pathOf(l), query: asSeen(l) }, signal })),
  });

/** How the materials that are seen answer light, once it is wanted. */
export const useResponse = (l: Look, wanted: boolean) =>
  useQuery({
    ...ONCE,
    queryKey: keys.light(l, "response", null),
    enabled: wanted && l.viewpoint !== "",
    queryFn: ({ signal }) =>
      must(client.GET(`${SHEET}/response`, { params: { path: pathOf(l), query: asSeen(l) }, signal })),
  });

/** Another base shader for a material, rehearsed once one is chosen. */
export const useSwap = (l: Look, material: string, to: string | null) =>
  useQuery({
    ...ONCE,
    queryKey: keys.light(l, "swap", `${material} ${to}`),
    enabled: to !== null,
    queryFn: ({ signal }) =>
      must(
        client.GET(`${SHEET}/swap`, {
          params: { path: pathOf(l), query: { ...asSeen(l), material, to: to ?? "" } },
          signal,
        }),
      ),
  });

/** The moves that can be looked along: the build's own, and stock ones. */
export const useMoves = (l: Look) =>
  useQuery({
    ...ONCE,
    queryKey: keys.light(l, "moves", null),
    enabled: l.viewpoint !== "",
    queryFn: ({ signal }) =>
      must(client.GET(`${SHEET}/moves`, { params: { path: pathOf(l), query: asSeen(l) }, signal })),
  });

/** A move looked along, once it is wanted; drawn: with its worst poses drawn. */
export const useAlong = (l: Look, region: Region | null, move: string | null, drawn: boolean) =>
  useQuery({
    ...ONCE,
    queryKey: keys.light(l, "along", `${move} ${written(region)} ${drawn}`),
    enabled: move !== null && l.viewpoint !== "",
    queryFn: ({ signal }) =>
      must(
        client.GET(`${SHEET}/move`, {
          params: {
            path: pathOf(l),
            query: { move: move ?? "", drawn, ...asSeen(l), region: written(region) },
          },
          signal,
        }),
      ),
  });

const addressOf = (l: Look, of: string, query: Record<string, string>) =>
  `${buildPath(l.project, l.build)}/light/${encodeURIComponent(l.viewpoint)}/${of}?${new URLSearchParams({
    ...query,
    state: l.state,
    stamp: l.stamp,
    ...(l.target ? { target: l.target } : {}),
  })}`;

/** Address of a picture of a moment of a move. */
export const momentUrl = (l: Look, move: string, at: number, shown: "standin" | "reference") =>
  addressOf(l, "moment", { shown, move, at_s: at.toFixed(3) });

export type Shown = "standin" | "reference" | "off";

/** Address of a picture of the frame as compared. */
export const comparedUrl = (l: Look, samples: number, shown: Shown) =>
  addressOf(l, "compared", { shown, samples: String(samples) });
