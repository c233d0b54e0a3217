import { cleanup, render, screen } from "@testing-library/react";
import { afterEach, describe, expect, test } from "vitest";
import type { Effect, Explanation, Leak, LightmapAsset } from "../../api/client";
import { part } from "../../testing/part";
import { ChartIndex, decoded, texelsOf } from "./page";
import { scaleColour } from "./scale";
import { Why } from "./Why";
import { effectWords, openMaps, troubles } from "./words";

const THIN = "\u202f";
const fit = part<LightmapAsset>({
  asset: "leaf",
  overlap: { surface_share: 0, texel_share: 0, pairs: 0 },
  degenerate: 0,
  out_of_range_share: 0,
  uv_use: "repacked",
  skew_deg: null,
  safe_mip: 1,
  splits: 0,
  density_spread: 1,
  page_texels_per_m: 8,
  troubles: [],
  maps: [{ light_set: null, state: "fresh", stale_texels: 0, why: [] }],
});

const packed = (values: Float32Array | Int32Array) =>
  btoa(String.fromCharCode(...new Uint8Array(values.buffer, values.byteOffset, values.byteLength)));

afterEach(cleanup);

describe("what is wrong with a lightmap", () => {
  const stale = part<LightmapAsset>({
    ...fit,
    troubles: [{ words: "1 of its lightmaps stale", weight: 70 }],
    maps: [{ light_set: "on", state: "stale", stale_texels: 9, why: ["lamp"] }],
  });
  test("is what the core says, and nothing else", () => {
    expect(troubles(fit)).toEqual([]);
    expect(troubles(stale).map((t) => t.words)).toEqual(["1 of its lightmaps stale"]);
    expect(openMaps([stale, fit])).toEqual([
      { asset: "leaf", light_set: "on", state: "stale", stale_texels: 9, why: ["lamp"] },
    ]);
  });
  test("the leak that reaches farthest joins in its place once it is traced", () => {
    const leaks = [40, 120].map((mm) =>
      part<Leak>({
        occluder: `wall_${mm}`,
        reach_linear_mm: mm,
        reach_nearest_mm: mm,
        contrast: 2,
        texels: [],
        trouble: { words: `light leaks ${mm} mm past wall_${mm}`, weight: 75 },
      }),
    );
    expect(troubles(stale, leaks).map((t) => t.words)).toEqual([
      "light leaks 120 mm past wall_120",
      "1 of its lightmaps stale",
    ]);
  });
});

describe("pages", () => {
  const triangles = new Float32Array([0, 0, 0.5, 0, 0, 0.5, 0.6, 0.6, 0.6, 0.9, 0.9, 0.6]);
  test("are read from base64, and a place finds its triangle whichever way it turns", () => {
    const page = decoded({
      triangles: packed(triangles),
      chart: packed(new Int32Array([0, 3])),
      density: packed(new Float32Array([8, 9])),
      borders: "",
      border_chart: "",
      doubled: "",
      splits: "",
      gutter_at: null,
    });
    expect(Array.from(page.chart)).toEqual([0, 3]);
    expect(page.index.at(0.1, 0.1)).toBe(0);
    expect(page.index.at(0.65, 0.65)).toBe(1);
    expect(page.index.at(0.4, 0.4)).toBe(-1);
    expect(new ChartIndex(new Float32Array([-3, -3, 5, -3, -3, 5])).at(0.5, 0.5)).toBe(0);
  });
  test("texels of a frame are read by name", () => {
    const names = new TextEncoder().encode('["a","b"] '.padEnd(12));
    const data = new ArrayBuffer(4 + 12 + 2 * 4 + 2 * 8);
    new DataView(data).setUint32(0, 12, true);
    new Uint8Array(data, 4, 12).set(names);
    new Int32Array(data, 16, 2).set([1, -1]);
    new Float32Array(data, 24, 4).set([0.25, 0.5, 0, 0]);
    const found = texelsOf(data, 2, 1);
    expect([found.names, Array.from(found.asset), found.place[1]]).toEqual([["a", "b"], [1, -1], 0.5]);
  });
});

test("the scale runs from dark to light", () => {
  const light = (s: number) => (scaleColour(s).match(/\d+/g) ?? []).map(Number);
  const grey = [0, 0.2, 0.4, 0.6, 0.8, 1].map((s) => {
    const [r = 0, g = 0, b = 0] = light(s);
    return 0.2126 * r + 0.7152 * g + 0.0722 * b;
  });
  expect([...grey].sort((a, b) => a - b)).toEqual(grey);
  expect(scaleColour(-1)).toBe(scaleColour(0));
});

const effect = (code: string, share: number, facts: Record<string, unknown> = {}): Effect => ({
  code,
  title: code,
  without_lux: 0.05,
  effect_lux: share * 0.285,
  share,
  facts,
});
const explanation = (over: Partial<Explanation>): Explanation => ({
  asset: "floor",
  light_set: null,
  texel: [30, 62],
  edge: 64,
  value_lux: 0.335,
  reference_lux: 0.05,
  noise_lux: 0.001,
  all_removed_lux: 0.05,
  unexplained_lux: 0,
  healthy: false,
  facts: {
    drawable: "floor",
    owned: true,
    stored: true,
    texel_mm: [100, 100],
    samples: 64,
    place_m: [0, 0, 0],
    filter: "linear",
  },
  effects: [],
  ...over,
});
const show = (found: Explanation) =>
  render(<Why found={found} texel={[30, 62]} pending={false} error={null} ask={() => {}} />);

describe("why a texel is as it is", () => {
  test("each cause with its share, the first in words, none below half a per cent", () => {
    const facts = {
      reach_linear_mm: 120,
      reach_nearest_mm: 70,
      occluder: "partition",
      share_of_other_side: 0.3,
    };
    show(explanation({ effects: [effect("bake.leak", 1, facts), effect("bake.banding", 0.004)] }));
    expect(screen.getByText("Why this texel is too bright")).toBeTruthy();
    expect(screen.getByTestId("cause").textContent).toContain(
      "Light reaches 120 mm past partition (70 mm read nearest)",
    );
    expect(screen.queryByText("bake.banding")).toBeNull();
    expect(screen.getByText("Unexplained")).toBeTruthy();
  });
  test("a healthy one says so and blames nothing", () => {
    show(explanation({ healthy: true, value_lux: 0.05, effects: [effect("bake.leak", 2.06)] }));
    expect(screen.getByText("This texel is healthy")).toBeTruthy();
    expect(screen.getAllByText("bake.leak").length).toBeGreaterThan(0);
    expect(screen.queryByText(/206/)).toBeNull(); // a share of next to nothing says nothing
    expect(screen.queryByTestId("cause")).toBeNull();
  });
  test("every kind of cause has words of its own", () => {
    expect(
      effectWords(effect("bake.hidden-faces", 1, { nearest_hidden_texels: 2, hidden_share: 0 })),
    ).toContain("is 2 away");
    const leak = { reach_linear_mm: 130, reach_nearest_mm: 70, occluder: "wall", share_of_other_side: 0.42 };
    expect(effectWords(effect("bake.leak", -1, leak))).toContain("The dark reaches 130 mm past wall");
    expect(effectWords(effect("uv.overlap", 1, { others: ["b"], share: 0.5 }))).toBe(
      `b writes 50${THIN}% of it.`,
    );
    expect(effectWords(effect("uv.off-grid", 1, { skew_deg: 7, step_texels: 8.144 }))).toContain(
      "a step each 8.144 texels",
    );
    expect(
      effectWords(effect("noise.samples", 1, { samples: 64, place_m: [0, 0, 0], filter: "linear" })),
    ).toBe("64 samples a texel.");
    expect(effectWords(effect("bake.banding", 1, { encoding: "srgb8" }))).toBe("Stored as srgb8.");
    expect(effectWords(effect("bake.stale", 1))).toContain("bake it again");
    expect(effectWords(effect("bake.leak", 1))).toBe("");
  });
});
