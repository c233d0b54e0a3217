import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { assetPath, buildPath, client, must } from "../../api/client";
import { keys } from "../../api/keys";
import { patientFetch } from "../../api/patient";
import { decoded, type FrameTexels, texelsOf } from "./page";

export type Where = { project: number; build: number; asset: string; target: string | null };

const path = (w: Where) => ({ project_id: w.project, number: w.build, asset: w.asset });

export function usePage(w: Where, state: "head" | "built") {
  const page = useQuery({
    queryKey: keys.page(w, state),
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/lightmaps/{asset}/page", {
          params: { path: path(w), query: { state, target: w.target } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const arrays = useMemo(() => (page.data ? decoded(page.data.geometry) : null), [page.data]);
  return { ...page, arrays };
}

/** stamp: the version of the build, so that nothing of an older one is shown for it. */
export const useLeaks = (w: Where, lightSet: string | null, enabled: boolean, stamp: string) =>
  useQuery({
    queryKey: keys.leaks(w, lightSet, stamp),
    enabled,
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/lightmaps/{asset}/leaks", {
          params: { path: path(w), query: { light_set: lightSet, target: w.target } },
        }),
      ),
  });

export const useWhy = (w: Where, lightSet: string | null, texel: [number, number] | null, stamp: string) =>
  useQuery({
    queryKey: keys.why(w, lightSet, texel, stamp),
    enabled: texel !== null,
    retry: false,
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/lightmaps/{asset}/why", {
          params: {
            path: path(w),
            query: { light_set: lightSet, target: w.target, x: texel?.[0] ?? 0, y: texel?.[1] ?? 0 },
          },
        }),
      ),
  });

export const useCopies = (w: Where, enabled: boolean) =>
  useQuery({
    queryKey: keys.copies(w),
    enabled,
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/lightmaps/{asset}/copies", {
          params: { path: path(w) },
        }),
      ),
  });

export const useWorth = (project: number, build: number, enabled: boolean) =>
  useQuery({
    queryKey: keys.worth(project, build),
    enabled,
    staleTime: 60_000,
    queryFn: () =>
      must(
        client.GET("/api/projects/{project_id}/builds/{number}/worth-baking", {
          params: { path: { project_id: project, number: build } },
        }),
      ),
  });

/** Which texel each pixel of a viewpoint shows, at 480 x 270. */
export const useTexels = (project: number, build: number, viewpoint: string, stamp: string) =>
  useQuery<FrameTexels>({
    queryKey: keys.texels(project, build, viewpoint, stamp),
    enabled: viewpoint !== "",
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: async ({ signal }) => {
      const url = `${buildPath(project, build)}/texels/${encodeURIComponent(viewpoint)}?width=480&height=270`;
      const answer = await patientFetch(url, { signal });
      if (!answer.ok) throw new Error(`The frame's texels could not be had (${answer.status}).`);
      return texelsOf(await answer.arrayBuffer(), 480, 270);
    },
  });

export type Showing = {
  filter: "nearest" | "linear";
  denoise: "" | "off" | "within_charts" | "across_gaps";
  encoding: "" | "srgb8" | "linear16" | "half";
  brighter: number;
  state: "head" | "built";
};

/** A lightmap as a bitmap, shown as asked; `white` is the light in lux it shows as white. */
export function useMap(
  w: Where,
  lightSet: string | null,
  how: Showing,
  edge: number,
  enabled: boolean,
  stamp: string,
) {
  const [white, setWhite] = useState<{ of: string; lux: number } | null>(null);
  const whose = `${w.asset} ${lightSet}`;
  const base = white?.of === whose ? white.lux : null;
  const magnify = how.filter === "linear" ? Math.max(1, Math.min(16, Math.floor(2048 / edge))) : 1;
  const query = new URLSearchParams({
    filter: how.filter,
    magnify: String(magnify),
    state: how.state,
    stamp,
  });
  if (lightSet) query.set("light_set", lightSet);
  if (w.target) query.set("target", w.target);
  if (how.denoise) query.set("denoise", how.denoise);
  if (how.encoding) query.set("encoding", how.encoding);
  if (base && how.brighter !== 0) query.set("white", String(base * 2 ** -how.brighter));
  else if (base) query.set("white", String(base));
  const map = useQuery<{ bitmap: ImageBitmap; lux: number }>({
    queryKey: keys.map(w, query.toString()),
    enabled,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: async ({ signal }) => {
      const answer = await patientFetch(`${assetPath(w.project, w.build, w.asset)}/map.png?${query}`, {
        signal,
      });
      if (!answer.ok) {
        const said = (await answer.json().catch(() => ({}))) as { detail?: string };
        throw new Error(said.detail ?? `The map could not be had (${answer.status}).`);
      }
      const lux = Number(answer.headers.get("X-White-Lux"));
      return { bitmap: await createImageBitmap(await answer.blob()), lux };
    },
  });
  const lux = map.data?.lux;
  useEffect(() => {
    if (lux && base === null) setWhite({ of: whose, lux });
  }, [lux, base, whose]);
  return map;
}
