import type { LightmapAsset } from "../../api/client";
import type { Effect, Leak } from "../../api/documents";
import { figure, percent } from "../../ui/words";

export type Trouble = { words: string; weight: number };

/** What is wrong with a lightmap, worst first, from what was measured. Empty: its charts are fit and its maps fresh.
 *  median: texels/m of the middle one of all assets; leaks: once they are traced. */
export function troubles(a: LightmapAsset, median: number, leaks: Leak[] = []): Trouble[] {
  const found: Trouble[] = [];
  const say = (words: string, weight: number) => found.push({ words, weight });
  const shared = a.overlap.surface_share as number;
  if (shared > 0) say(`${percent(shared, shared < 0.1 ? 1 : 0)} of its surface shares texels`, 90 + shared);
  if (a.degenerate > 0)
    say(`${a.degenerate} triangle${a.degenerate > 1 ? "s have" : " has"} no area on the page`, 80);
  if (a.out_of_range_share > 0 && a.uv_use !== "as_is")
    say(`${percent(a.out_of_range_share, 0)} of it lies outside 0 to 1`, a.uv_use === "repacked" ? 5 : 60);
  if (a.skew_deg !== null) say(`a chart lies ${Math.abs(a.skew_deg).toFixed(1)}° off the texel grid`, 50);
  if (a.safe_mip !== null && a.safe_mip < 0) say("charts touch: they bleed without any mip", 48);
  if (a.splits > 0)
    say(`${a.splits} chart${a.splits > 1 ? "s part" : " parts"} where the surface is flat`, 40);
  if (a.density_spread > 4) say(`density differs ${figure(a.density_spread)} times between its charts`, 30);
  const coarser = median / a.page_texels_per_m;
  if (Number.isFinite(coarser) && coarser > 4) say(`texels ${figure(coarser)} times as large as most`, 45);
  const leak = leaks.toSorted((x, y) => y.reach_linear_mm - x.reach_linear_mm)[0];
  if (leak) say(`light leaks ${figure(Math.round(leak.reach_linear_mm))} mm past ${leak.occluder}`, 75);
  const stale = a.maps.filter((m) => m.state === "stale").length;
  const missing = a.maps.filter((m) => m.state === "missing").length;
  if (stale) say(stale === a.maps.length ? "its lightmap is stale" : `${stale} of its lightmaps stale`, 70);
  if (missing) say(missing === a.maps.length ? "not baked yet" : `${missing} of its lightmaps not baked`, 20);
  return found.sort((x, y) => y.weight - x.weight);
}

/** Texels/m of the middle one of some assets. */
export function medianDensity(assets: LightmapAsset[]): number {
  const known = assets
    .map((a) => a.page_texels_per_m)
    .filter((d) => d > 0)
    .sort((x, y) => x - y);
  return known[known.length >> 1] ?? 0;
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
