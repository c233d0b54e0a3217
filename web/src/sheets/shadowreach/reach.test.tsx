import { cleanup, fireEvent, render, screen, within } from "@testing-library/react";
import { Route, Routes } from "react-router";
import { afterEach, describe, expect, test, vi } from "vitest";
import { around, serve } from "../../testing";
import { part } from "../../testing/part";
import { TitleBlockRoom } from "../../ui/titleBlock";
import { along, axisOf, metresAt, readingAt, ticks } from "./axis";
import type { Section } from "./queries";
import { ShadowReach } from "./ShadowReach";
import { ending, inShort, title } from "./words";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const tier = (name: string, near_m: number, far_m: number, texel_m: number) => ({
  name,
  near_m,
  far_m,
  texel_m,
  resolution: 2048,
  bytes: 2048 * 2048 * 4,
});
const caster = (name: string, over: object = {}) => ({
  name,
  node: name,
  mesh: name,
  range_m: 300,
  near_m: 301,
  far_m: 305,
  due_px: 400,
  missing_px: 0,
  ends_m: 360,
  ended_by: "a map serves this depth",
  leaf: "shadow.reach_m",
  margin_m: 55,
  lost_at: null,
  at: [100, 80],
  ...over,
});
const lost = caster("far_hoist", {
  range_m: 385,
  far_m: 389,
  missing_px: 400,
  margin_m: -29,
  lost_at: "a map serves this depth",
  at: [640, 262],
});
const none = { bytes: 0, texels: 0, maps: 0, draws: 0, triangles: 0, rays: 0 };
const section = (over: object = {}) => ({
  viewpoint: "long_reach",
  light: "sun",
  lights: ["sun", "flood"],
  technique: "cascades",
  reach_by: "view_depth",
  size: [960, 540],
  pixel_m: 0.002,
  tiers: [tier("cascade 1", 0, 80, 0.043), tier("cascade 2", 80, 360, 0.414)],
  casters: [lost, caster("near_hoist")],
  classes: { agree: 9000, missing: 900, false: 100 },
  lost: [{ what: "a map serves this depth", drawable: "far_hoist", pixels: 400 }],
  wrote: [],
  pages: 0,
  coarser: 0,
  cost: none,
  ...over,
});
const cell = (technique: string, remedy: string, verdict: string, over: object = {}) => ({
  technique,
  remedy,
  verdict,
  lost_before: 400,
  lost: 0,
  drawn_before: 0,
  drawn: 1,
  elsewhere: 0,
  leaf: "shadow.far_reach_m",
  value: 420,
  critical: 389,
  cost: { ...none, bytes: 16 * 1024 * 1024 },
  change: { id: "far", title: "far tier" },
  ...over,
});
const BUILD = "/api/projects/3/builds/1";
const build = {
  number: 1,
  version: 7,
  viewpoints: [{ key: "long_reach" }, { key: "tow_path" }],
  targets: ["kiosk"],
};

function open(answers: object = {}, at = "/p/3/b/1/shadow-reach?from=long_reach") {
  const asked = serve({
    [`GET ${BUILD}/shadows/`]: section(),
    [`GET ${BUILD}/sweeps`]: [],
    [`GET ${BUILD}`]: build,
    ...answers,
  });
  render(
    <TitleBlockRoom>
      <Routes>
        <Route path="/p/:project/b/:build/shadow-reach" element={<ShadowReach />} />
      </Routes>
    </TitleBlockRoom>,
    { wrapper: ({ children }) => around({ children, at }) },
  );
  return asked;
}

describe("the section in words and numbers", () => {
  const s = part<Section>(section());

  test("a distance goes to its place on the log axis and back", () => {
    const axis = axisOf(s, 500);
    expect(axis.high).toBeGreaterThan(389);
    for (const m of [1, 7, 360]) expect(metresAt(axis, along(axis, m))).toBeCloseTo(m, 6);
    expect(along(axis, 10) - along(axis, 1)).toBeCloseTo(along(axis, 100) - along(axis, 10), 6);
    expect(ticks(axis).slice(0, 6)).toEqual([1, 2, 5, 10, 20, 50]);
  });

  test("a reading names the tier and how many pixels its texel is wide", () => {
    expect(readingAt(s, 100).tier?.name).toBe("cascade 2");
    expect(readingAt(s, 100).texelPx).toBeCloseTo(0.414 / 0.2, 6);
    expect(readingAt(s, 400).tier).toBeUndefined();
  });

  test("the title says the defect, and that there is none", () => {
    expect(title(s)).toBe("far_hoist stands 29 m beyond its shadow");
    expect(title(part<Section>(section({ casters: [caster("near_hoist")] })))).toBe(
      "Every shadow that is due is drawn",
    );
    const dark = section({ casters: [caster("crate")], classes: { agree: 800, false: 200 } });
    expect(title(part<Section>(dark))).toMatch(/^20.0.% of the frame lacks light of sun that is due$/);
    const bare = caster("tarpaulin", {
      ends_m: 0,
      lost_at: "its shader is in the shadow pass",
      ended_by: "its shader is in the shadow pass",
    });
    expect(title(part<Section>(section({ casters: [bare] })))).toBe("tarpaulin throws no shadow");
  });

  test("what ends a bar is told with its margin", () => {
    const [far, near] = s.casters;
    expect(far && ending(far)).toBe("360 m: a map serves this depth, 29 m beyond");
    expect(far && inShort(far)).toBe("29 m beyond reach");
    expect(near && ending(near)).toBe("360 m: a map serves this depth");
  });
});

describe("the sheet", () => {
  test("casters are worst first in the table, and up and down choose one", async () => {
    open();
    expect(
      await screen.findByRole("heading", { name: "far_hoist stands 29 m beyond its shadow" }),
    ).toBeTruthy();
    fireEvent.click(screen.getByText("The section as tables"));
    const names = screen.getAllByRole("button", { name: /_hoist$/ });
    expect(names.map((n) => n.textContent)).toEqual(["far_hoist", "near_hoist"]);
    fireEvent.keyDown(window, { key: "ArrowDown" });
    expect(await screen.findByText("Test chain: near_hoist")).toBeTruthy();
    fireEvent.keyDown(window, { key: "End" });
    expect(screen.getByText(/no map serves this/).textContent).toBe("360 m: no map serves this");
    fireEvent.keyDown(window, { key: "ArrowLeft" });
    expect(screen.getByText(/texel 414 mm/).textContent).toMatch(/^340 m: cascade 2/);
  });

  test("Enter asks why at the caster's spot, Escape goes back", async () => {
    const asked = open({
      [`GET ${BUILD}/autopsy/`]: {
        viewpoint: "x",
        at: [640, 262],
        drawable: "wall",
        place_m: [0, 0, 0],
        lights: [],
        elsewhere: [],
      },
    });
    await screen.findByText("Test chain: far_hoist");
    fireEvent.keyDown(window, { key: "Enter" });
    expect(await screen.findByText("No light shines.")).toBeTruthy();
    expect(asked.some((a) => a.path.endsWith("/autopsy/long_reach?x=640&y=262"))).toBe(true);
    fireEvent.keyDown(window, { key: "Escape" });
    expect(await screen.findByText("Test chain: far_hoist")).toBeTruthy();
  });

  test("the matrix is drawn when asked, and only this technique's cures can be kept", async () => {
    const cells = [
      cell("cascades", "far tier", "cures"),
      cell("cascades", "padding", "no effect", { drawn: 0 }),
      cell("rays", "padding", "cures", { leaf: "nodes.far_hoist.bounds_padding_m", value: 0.5 }),
      cell("paged", "padding", "nothing to cure"),
    ];
    const asked = open({
      [`GET ${BUILD}/shadows/long_reach/cures`]: {
        viewpoint: "long_reach",
        caster: "far_hoist",
        due: 400,
        base: "b",
        cells,
      },
      [`POST ${BUILD}/ledger`]: {},
    });
    fireEvent.click(await screen.findByRole("button", { name: "Try every remedy in every technique" }));
    const table = await screen.findByTestId("cures");
    expect(within(table).getAllByText(/cures/)).toHaveLength(2);
    expect(table.textContent).toMatch(/far_reach_m 420; \+16/);
    const [keep, ...others] = within(table).getAllByRole("button", { name: "Keep" });
    expect(others).toHaveLength(0);
    if (keep) fireEvent.click(keep);
    await vi.waitFor(() => expect(asked.some((a) => a.method === "POST")).toBe(true));
    const sent = asked.find((a) => a.method === "POST");
    expect(sent?.headers.get("If-Match")).toBe("7");
    expect(sent?.body).toMatchObject({ change: { id: "far" }, evidence: { before: 0, after: 1 } });
  });

  test("what fails is told, and another viewpoint can be taken", async () => {
    const asked = open({
      [`GET ${BUILD}/shadows/`]: { status: 422, detail: "no light shines here: nothing casts a shadow" },
    });
    expect((await screen.findByRole("alert")).textContent).toMatch(/no light shines here/);
    fireEvent.change(screen.getByLabelText("Viewpoint"), { target: { value: "tow_path" } });
    await vi.waitFor(() => expect(asked.some((a) => a.path.includes("/shadows/tow_path"))).toBe(true));
  });

  test("leftovers are looked for when asked, and taken out with one press", async () => {
    const settings = [
      {
        setting: "nodes.barrow.bounds_padding_m",
        value: 0.3,
        default: 0,
        needed: false,
        where: "",
        pixels: 0,
      },
      { setting: "shadow.reach_m", value: 360, default: 150, needed: true, where: "quay", pixels: 9 },
    ];
    const asked = open({
      [`GET ${BUILD}/leftovers`]: { settings, change: { id: "out" }, looked: ["quay", "hall"] },
      [`POST ${BUILD}/ledger`]: {},
    });
    fireEvent.click(await screen.findByRole("button", { name: "Look for settings that change nothing" }));
    expect(await screen.findByText(/1 of 2 change no pixel in 2 frames/)).toBeTruthy();
    expect(screen.getByText("nodes.barrow.bounds_padding_m = 0.3")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Take them out" }));
    await vi.waitFor(() =>
      expect(asked.find((a) => a.method === "POST")?.body).toMatchObject({ change: { id: "out" } }),
    );
  });

  test("a light's bias is solved when asked, each way with what it costs, and kept with one press", async () => {
    const lost = (lost_mm: number, limit_mm = 55) => ({ caster: "boards", lost_mm, limit_mm });
    const outcome = (way: string, words: string, over: object = {}) => ({
      way,
      bias: { constant_mm: 0, slope: 0, normal_texels: 0, along_plane: false, words },
      false_px: 0,
      foot: lost(0),
      tip: lost(0),
      lift_mm: 50,
      inside: true,
      ...over,
    });
    const set = outcome("as set", "no bias", { false_px: 72440, inside: false, lift_mm: 0 });
    const slope = outcome("slope", "1.68 x slope", { false_px: 16 });
    const constant = outcome("constant", "217.4 mm", { foot: lost(104.7), inside: false, lift_mm: 217.4 });
    const way = (name: string, over: object) => ({
      name,
      best: null,
      least: null,
      texel_mm: null,
      resolution: null,
      ...over,
    });
    const bias = {
      light: "sun",
      viewpoints: ["slip"],
      technique: "cascades",
      filter_px: 3,
      resolution: 512,
      texel_mm: [6, 33],
      asked_px: 122532,
      lines: 70,
      limit_px: 16,
      set_to: set,
      ways: [
        way("constant", { least: constant, texel_mm: 20.8, resolution: 819 }),
        way("slope", { best: slope }),
      ],
      chosen: slope,
      front: [
        {
          outcome: slope,
          false_px: 16,
          lost_points: 20,
          said_false_px: 16,
          said_lost_points: 20,
          same: true,
          change: { id: "slope" },
        },
      ],
      at_texel: null,
    };
    const asked = open({ [`GET ${BUILD}/shadow-bias`]: bias, [`POST ${BUILD}/ledger`]: {} });
    fireEvent.click(await screen.findByRole("button", { name: "Solve the bias of sun" }));
    const table = await screen.findByTestId("bias");
    const row = (name: RegExp) => within(table).getByRole("row", { name });
    expect(row(/^as set/).textContent).toMatch(/72\s440 px/);
    expect(row(/^constant/).textContent).toMatch(/105 of 55 mm.*none keeps both; maps of 819 texels would/);
    expect(row(/^slope/).textContent).toMatch(/1.68 x slope.*16 px.*✓ drawn/);
    expect(screen.getByText(/smallest that keeps both limits: 1.68 x slope/)).toBeTruthy();
    expect(screen.getByRole("img", { name: /Pixels that shade themselves/ })).toBeTruthy();
    fireEvent.click(within(row(/^slope/)).getByRole("button", { name: "Keep" }));
    await vi.waitFor(() =>
      expect(asked.find((a) => a.method === "POST")?.body).toMatchObject({
        change: { id: "slope" },
        evidence: { before: 72440, after: 16 },
      }),
    );
  });

  test("rays have no bias to solve", async () => {
    open({ [`GET ${BUILD}/shadows/`]: section({ technique: "rays", tiers: [] }) });
    expect(await screen.findByRole("heading", { level: 1 })).toBeTruthy();
    await screen.findByRole("button", { name: "Look for settings that change nothing" });
    expect(screen.queryByRole("button", { name: /Solve the bias/ })).toBeNull();
  });

  test("a walk says what swims, what a join passes and whose shadow drops out", async () => {
    const walk = {
      viewpoint: "long_reach",
      light: "sun",
      technique: "cascades",
      move: "aside",
      step: 0.025,
      unit: "m",
      points: 26405,
      each: 4,
      dark: 359,
      swims: 14,
      joined: 3,
      dropped: 0,
      share: 0.039,
      limit: 0.01,
      steps: [
        { at: 0.025, swims: 6, joined: 0, dropped: 0 },
        { at: 0.05, swims: 8, joined: 3, dropped: 0 },
      ],
      casters: [{ name: "far_hoist", dark: 87, swims: 8, drops_out_m: 361.2 }],
    };
    const asked = open({ [`GET ${BUILD}/shadows/long_reach/walk`]: walk });
    fireEvent.click(await screen.findByRole("button", { name: "Step aside" }));
    const row = within(await screen.findByTestId("walk")).getByRole("row", { name: /far_hoist/ });
    expect(row.textContent).toMatch(/87.*8.*at 361 m/);
    expect(
      screen.getByText(/14 of 359 places in shadow swim: 3.9.%, limit 1.% · 3 flip at a join/),
    ).toBeTruthy();
    expect(screen.getByRole("img", { name: /Flips at each of 2 steps: 6, 8 swim/ })).toBeTruthy();
    expect(asked.some((a) => a.path.includes("/walk"))).toBe(true);
  });

  test("both sides of a bar's end are drawn when asked", async () => {
    open({});
    expect(screen.queryByTestId("bar-ends")).toBeNull();
    fireEvent.click(await screen.findByRole("button", { name: "Draw both sides of its end" }));
    const pictures = within(await screen.findByTestId("bar-ends")).getAllByRole("img");
    expect(pictures.map((p) => new URL((p as HTMLImageElement).src).searchParams.get("beyond"))).toEqual([
      "false",
      "true",
    ]);
    expect(pictures[1]?.getAttribute("alt")).toMatch(/just beyond \d+ m/);
  });

  test("every light is counted beside the target's limit", async () => {
    const spent = { mib: 64, maps: 4, draws: 214, triangles: 7900, rays: 0 };
    const budget = {
      viewpoint: "long_reach",
      lights: [
        { light: "sun", technique: "cascades", spent, due_px: 6900, drawn_px: 4100 },
        {
          light: "slip_lamp_bare",
          technique: "cascades",
          spent: { ...spent, mib: 6 },
          due_px: 0,
          drawn_px: 0,
        },
      ],
      total: { ...spent, mib: 146.6 },
      limits: [{ leaf: "shadow_mib", spent: 146.6, limit: 128 }],
    };
    open({ [`GET ${BUILD}/shadows/long_reach/budget`]: budget });
    fireEvent.click(await screen.findByRole("button", { name: "Count every light" }));
    const table = within(await screen.findByTestId("spending"));
    expect(table.getByRole("row", { name: /^sun/ }).textContent).toMatch(/64 MiB.*214.*7.?900.*6.?900/);
    expect(table.getByRole("row", { name: /^all/ }).textContent).toContain("147 MiB");
    expect(screen.getByText(/147 of 128 MiB: over budget/)).toBeTruthy();
  });

  test("fineness says what is measured beside its limit, and what is beyond it", async () => {
    const fineness = {
      viewpoint: "long_reach",
      light: "sun",
      technique: "cascades",
      edges: { pixels: 8332, pixels_a_texel: 2.46, limit: 4 },
      joins: [
        { at_m: 37.7, nearer: 1, farther: 2, pixels: 119, delta_e: 1.2, wide_px: 0, step: 1.2, limit: 2 },
      ],
      holes: [{ material: "grille_mesh", pixels: 892, drawn: 0, true: 0.525, limit: 0.1 }],
      thin: [{ caster: "flagstaff", width_mm: 84.2, texel_mm: 88.5, texels: 0.952, pixels: 32, limit: 1 }],
      soft: [{ gap_m: 16.4, drawn_mm: 36.1, true_mm: 104.6, times: 0.345, pixels: 912, limit: 2 }],
    };
    open({ [`GET ${BUILD}/shadows/long_reach/fineness`]: fineness });
    fireEvent.click(await screen.findByRole("button", { name: "Measure the shadows of sun" }));
    const table = within(await screen.findByTestId("fineness"));
    expect(table.getByRole("row", { name: /Edges, at the median/ }).textContent).toMatch(
      /covers 2\.46 px.*4 px.*8.?332/,
    );
    expect(table.getByRole("row", { name: /Join at 37\.7 m, map 1 to 2/ }).textContent).toContain("ΔE₀₀ 1.2");
    expect(table.getByRole("row", { name: /grille_mesh/ }).textContent).toMatch(
      /0.% drawn, 5[23].% by rays \(beyond its limit\)/,
    );
    expect(table.getByRole("row", { name: /flagstaff/ }).textContent).toMatch(
      /0?\.952 of a texel wide.*beyond/,
    );
    expect(table.getByRole("row", { name: /Edges 16\.4 m behind/ }).textContent).toMatch(
      /36\.1 mm wide, 105 mm.*beyond.*2 times/,
    );
    expect(screen.getByText("3 of 5 beyond a limit")).toBeTruthy();
  });

  test("the sky's sun is shown with what of it throws no shadow, even where no light shines", async () => {
    const found = {
      picture: "court_noon.exr",
      width: 512,
      height: 256,
      verdict: "sun",
      why: "",
      towards: [-0.5, 0.55, 0.67],
      lux: 68000,
      rgb: [1, 0.96, 0.9],
      radius_deg: null,
      sun_lux: 37374,
      sky_lux: 14661,
      unshadowed_share: 0.718,
      stops: -1.83,
      peak: 1e9,
      contrast: 1e5,
      light: null,
    };
    const sky = {
      picture: "court_noon.exr",
      there: ["court_noon.exr"],
      ambient: true,
      nits: 1,
      yaw_deg: 0,
      found,
      towards: found.towards,
      lux: 68000,
      sun_lux: 37374,
      sky_lux: 14661,
      lights_lux: 0,
      share: 0.718,
      limit: 0.05,
      as_light: null,
      due_px: 10472,
    };
    const dark = { status: 422, detail: "no light shines" };
    open({ [`GET ${BUILD}/shadows/`]: dark, [`GET ${BUILD}/shadows/long_reach/sky`]: sky });
    const table = within(await screen.findByTestId("sky-sun"));
    expect(table.getByRole("row", { name: /turned to it/ }).textContent).toMatch(/68.?000 lx/);
    expect(table.getByRole("row", { name: /Its disc/ }).textContent).toContain(
      "smaller than the pixels tell",
    );
    expect(table.getByRole("row", { name: /shade is due/ }).textContent).toContain("-1.83 stops");
    expect(screen.getByText(/71\.8.% of the light on level ground throws no shadow; limit 5/)).toBeTruthy();
    expect(screen.getByText(/no light shines/)).toBeTruthy();
    expect(screen.getAllByRole("img")).toHaveLength(2);
  });
});
