import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { client, must, type Schemas } from "../../api/client";
import { keys } from "../../api/keys";
import type { Look as Place } from "../look";

export type Section = Schemas["LongSectionDocument"];
export type Tier = Section["tiers"][number];
export type Caster = Section["casters"][number];
export type Cures = Schemas["CuresDocument"];
export type Bias = Schemas["ShadowBiasDocument"];
export type Outcome = Bias["set_to"];
export type WalkOf = Schemas["WalkDocument"];
export type BudgetOf = Schemas["FrameBudgetDocument"];
export type SkyOf = NonNullable<ReturnType<typeof useSky>["data"]>;
export type FinenessOf = Schemas["FinenessDocument"];
export type Move = "aside" | "retreat" | "turn";
export type Cell = Cures["cells"][number];

/** Where the sheet looks from, and at which light. */
export type Look = Place & { light: string | null };

const path = (l: Look) => ({ project_id: l.project, number: l.build, viewpoint: l.viewpoint });

export const useSection = (l: Look) =>
  useQuery({
    queryKey: keys.shadows(l.project, l.build, l.viewpoint, l.light, l.target, `${l.stamp} ${l.state}`),
    enabled: l.viewpoint !== "",
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/shadows/{viewpoint}", {
          params: { path: path(l), query: { light: l.light, target: l.target, state: l.state } },
        }),
      ),
  });

/** Asked for once it is wanted: it draws thirty frames. */
export const useCures = (l: Look, caster: string | null, wanted: boolean) =>
  useQuery({
    queryKey: keys.cures(l.project, l.build, l.viewpoint, caster ?? "", l.target, l.stamp),
    enabled: wanted && caster !== null,
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/shadows/{viewpoint}/cures", {
          params: { path: path(l), query: { caster: caster ?? "", target: l.target } },
        }),
      ),
  });

/** Asked for once it is wanted: a light's bias at every viewpoint. */
export const useBias = (l: Look, light: string, wanted: boolean) =>
  useQuery({
    queryKey: keys.bias(l.project, l.build, light, l.target, l.stamp),
    enabled: wanted,
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/shadow-bias", {
          params: { path: { project_id: l.project, number: l.build }, query: { light, target: l.target } },
        }),
      ),
  });

/** A few steps from the viewpoint, once a way is chosen. */
export const useWalk = (l: Look, light: string, move: Move | null) =>
  useQuery({
    queryKey: keys.walk(l.project, l.build, l.viewpoint, light, l.target, move, l.stamp),
    enabled: move !== null,
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/shadows/{viewpoint}/walk", {
          params: {
            path: path(l),
            query: { light, target: l.target, move: move ?? "aside", step: move === "turn" ? 0.3 : 0.025 },
          },
        }),
      ),
  });

/** What each light's shadows take at the viewpoint, once it is wanted. */
export const useBudget = (l: Look, wanted: boolean) =>
  useQuery({
    queryKey: keys.budget(l.project, l.build, l.viewpoint, l.target, l.stamp),
    enabled: wanted,
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/shadows/{viewpoint}/budget", {
          params: { path: path(l), query: { target: l.target } },
        }),
      ),
  });

/** Asked for once it is wanted: it draws the light away and back. */
export const useFineness = (l: Look, light: string, wanted: boolean) =>
  useQuery({
    queryKey: keys.fineness(l.project, l.build, l.viewpoint, light, l.target, l.stamp),
    enabled: wanted,
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/shadows/{viewpoint}/fineness", {
          params: { path: path(l), query: { light, target: l.target } },
        }),
      ),
  });

/** The sky picture that the frame is drawn with. */
export const useSky = (l: Look) =>
  useQuery({
    queryKey: keys.sky(l.project, l.build, l.viewpoint, l.target, `${l.stamp} ${l.state}`),
    enabled: l.viewpoint !== "",
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/shadows/{viewpoint}/sky", {
          params: { path: path(l), query: { target: l.target, state: l.state } },
        }),
      ),
  });
