import type { Effect, Leak, LightmapAsset } from "../../api/client";
import { figure, percent } from "../../ui/words";

export type Trouble = LightmapAsset["troubles"][number];

/** What is wrong with a lightmap, worst first, as the core judges it; leaks join once they are traced. */
export function troubles(a: LightmapAsset, leaks: Leak[] = []): Trouble[] {
  const leak = leaks.toSorted((x, y) => y.reach_linear_mm - x.reach_linear_mm)[0];
  return [...a.troubles, ...(leak ? [leak.trouble] : [])].sort((x, y) => y.weight - x.weight);
}

export const assetLink = (project: number, build: number, asset: string) =>
  `/p/${project}/b/${build}/lightmaps/${encodeURIComponent(asset)}`;

export const setName = (s: string | null) => s ?? "lights as set";

export const openMaps = (assets: LightmapAsset[]) =>
  assets.flatMap((a) => a.maps.filter((m) => m.state !== "fresh").map((m) => ({ asset: a.asset, ...m })));

const PLAIN: Record<string, string> = {
  "bake.denoise-lines": "The denoiser takes empty texels beside the chart for black ones and mixes them in.",
  "bake.stale": "What stands here is not what it was baked from; bake it again.",
  "bake.uncovered": "No bake focus region holds it, so no bounced light was gathered.",
};

const number = (v: unknown) => (typeof v === "number" ? v : null);

/** What an effect knows besides its size, in words. */
export function effectWords(e: Effect): string {
  const f = e.facts;
  const reach = number(f.reach_linear_mm);
  if (reach !== null)
    return `${e.effect_lux < 0 ? "The dark" : "Light"} reaches ${figure(reach)} mm past ${String(f.occluder || "what stands there")} (${figure(number(f.reach_nearest_mm))} mm read nearest); ${percent(number(f.share_of_other_side) ?? 0, 0)} of the texel lies on the other side.`;
  if (number(f.nearest_hidden_texels) !== null)
    return `The nearest texel that nothing can see is ${f.nearest_hidden_texels} away; ${percent(number(f.hidden_share) ?? 0, 0)} of this one is hidden.`;
  if (Array.isArray(f.others))
    return `${(f.others as string[]).join(", ")} writes ${percent(number(f.share) ?? 0, 0)} of it.`;
  if (number(f.skew_deg) !== null)
    return `The chart lies ${figure(number(f.skew_deg))}° off the grid: a step each ${figure(number(f.step_texels))} texels.`;
  if (number(f.samples) !== null) return `${f.samples} samples a texel.`;
  if (typeof f.encoding === "string") return `Stored as ${f.encoding}.`;
  return PLAIN[e.code] ?? "";
}
