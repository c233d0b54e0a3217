import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { buildPath, client, must, type Schemas } from "../../api/client";
import { keys } from "../../api/keys";
import type { Look } from "../look";

export type Account = Schemas["AccountDocument"];
export type Row = Account["rows"][number];
export type Noise = Account["noise"];
export type WhereOf = Schemas["WhereDocument"];
export type Region = [number, number, number, number];

/** The account at so many samples, of the frame or of a region of it. The server goes on from the samples that are there. */
export const useAccount = (l: Look, samples: number, region: Region | null) =>
  useQuery({
    queryKey: keys.account(
      l.project,
      l.build,
      l.viewpoint,
      l.target,
      samples,
      region?.join(",") ?? null,
      `${l.stamp} ${l.state}`,
    ),
    enabled: l.viewpoint !== "",
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: ({ signal }) =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/light/{viewpoint}/account", {
          params: {
            path: { project_id: l.project, number: l.build, viewpoint: l.viewpoint },
            query: { samples, target: l.target, state: l.state, region: region?.join(",") ?? null },
          },
          signal,
        }),
      ),
  });

/** Where the light is, once it is wanted. */
export const useWhere = (l: Look, region: Region | null, wanted: boolean) =>
  useQuery({
    queryKey: keys.where(
      l.project,
      l.build,
      l.viewpoint,
      l.target,
      region?.join(",") ?? null,
      `${l.stamp} ${l.state}`,
    ),
    enabled: wanted,
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: ({ signal }) =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/light/{viewpoint}/where", {
          params: {
            path: { project_id: l.project, number: l.build, viewpoint: l.viewpoint },
            query: { samples: 32, target: l.target, state: l.state, region: region?.join(",") ?? null },
          },
          signal,
        }),
      ),
  });

/** What occlusion, bounce and reflection hold in memory there. */
export const useTargets = (l: Look) =>
  useQuery({
    queryKey: keys.held(l.project, l.build, l.viewpoint, l.target, `${l.stamp} ${l.state}`),
    enabled: l.viewpoint !== "",
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: ({ signal }) =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/light/{viewpoint}/targets", {
          params: {
            path: { project_id: l.project, number: l.build, viewpoint: l.viewpoint },
            query: { target: l.target, state: l.state },
          },
          signal,
        }),
      ),
  });

export type Differing = Schemas["DifferingDocument"];

/** Two roles side by side, once it is wanted. */
export const useRoles = (l: Look, region: Region | null, first: string, second: string, wanted: boolean) =>
  useQuery({
    queryKey: keys.roles(
      l.project,
      l.build,
      l.viewpoint,
      l.target,
      `${first} ${second} ${region?.join(",") ?? ""}`,
      `${l.stamp} ${l.state}`,
    ),
    enabled: wanted && l.viewpoint !== "",
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: ({ signal }) =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/light/{viewpoint}/roles", {
          params: {
            path: { project_id: l.project, number: l.build, viewpoint: l.viewpoint },
            query: {
              first,
              second,
              target: l.target,
              state: l.state,
              region: region?.join(",") ?? null,
            },
          },
          signal,
        }),
      ),
  });

export type MaterialAnswer = Schemas["MaterialAnswerDocument"];

/** How the materials that are seen answer light, once it is wanted. */
export const useResponse = (l: Look, wanted: boolean) =>
  useQuery({
    queryKey: keys.response(l.project, l.build, l.viewpoint, l.target, `${l.stamp} ${l.state}`),
    enabled: wanted && l.viewpoint !== "",
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: ({ signal }) =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/light/{viewpoint}/response", {
          params: {
            path: { project_id: l.project, number: l.build, viewpoint: l.viewpoint },
            query: { target: l.target, state: l.state },
          },
          signal,
        }),
      ),
  });

/** Another base shader for a material, rehearsed once one is chosen. */
export const useSwap = (l: Look, material: string, to: string | null) =>
  useQuery({
    queryKey: keys.swap(l.project, l.build, l.viewpoint, l.target, material, to, `${l.stamp} ${l.state}`),
    enabled: to !== null,
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: ({ signal }) =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/light/{viewpoint}/swap", {
          params: {
            path: { project_id: l.project, number: l.build, viewpoint: l.viewpoint },
            query: { target: l.target, state: l.state, material, to: to ?? "" },
          },
          signal,
        }),
      ),
  });

export type Along = Schemas["AlongDocument"];
export type Moment = Along["moments"][number];

/** The moves that can be looked along: the build's own, and stock ones. */
export const useMoves = (l: Look) =>
  useQuery({
    queryKey: keys.moves(l.project, l.build, l.viewpoint, `${l.stamp} ${l.state}`),
    enabled: l.viewpoint !== "",
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: ({ signal }) =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/light/{viewpoint}/moves", {
          params: {
            path: { project_id: l.project, number: l.build, viewpoint: l.viewpoint },
            query: { state: l.state },
          },
          signal,
        }),
      ),
  });

/** A move looked along, once it is wanted; drawn: with its worst poses drawn. */
export const useAlong = (l: Look, region: Region | null, move: string | null, drawn: boolean) =>
  useQuery({
    queryKey: keys.along(
      l.project,
      l.build,
      l.viewpoint,
      l.target,
      `${move} ${region?.join(",") ?? ""} ${drawn}`,
      `${l.stamp} ${l.state}`,
    ),
    enabled: move !== null && l.viewpoint !== "",
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: ({ signal }) =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/light/{viewpoint}/move", {
          params: {
            path: { project_id: l.project, number: l.build, viewpoint: l.viewpoint },
            query: {
              move: move ?? "",
              drawn,
              target: l.target,
              state: l.state,
              region: region?.join(",") ?? null,
            },
          },
          signal,
        }),
      ),
  });

/** Address of a picture of a moment of a move. */
export function momentUrl(l: Look, move: string, at: number, shown: "standin" | "reference"): string {
  const query = new URLSearchParams({ shown, move, at_s: at.toFixed(3), state: l.state, stamp: l.stamp });
  if (l.target) query.set("target", l.target);
  return `${buildPath(l.project, l.build)}/light/${encodeURIComponent(l.viewpoint)}/moment?${query}`;
}

export type Shown = "standin" | "reference" | "off";

/** Address of a picture of the frame as compared. */
export function comparedUrl(l: Look, samples: number, shown: Shown): string {
  const query = new URLSearchParams({ shown, samples: String(samples), state: l.state, stamp: l.stamp });
  if (l.target) query.set("target", l.target);
  return `${buildPath(l.project, l.build)}/light/${encodeURIComponent(l.viewpoint)}/compared?${query}`;
}
