import { cleanup, fireEvent, render, screen, waitFor, within } from "@testing-library/react";
import { afterEach, describe, expect, test, vi } from "vitest";
import type { ChartReport, Lightmaps } from "../../api/client";
import { around, serve } from "../../testing";
import { part } from "../../testing/part";
import { BakeBox } from "./BakeBox";
import { ChartList } from "./ChartList";
import { ChartPage } from "./ChartPage";
import type { Drawn } from "./draw";
import { ChartIndex } from "./page";
import { Copies, Repairs, useRepairs, type WhatIf } from "./Repairs";
import { ModeBar, ViewBar } from "./ViewBar";
import { WorthBaking } from "./WorthBaking";

const THIN = "\u202f";
const BUILD = "/api/projects/1/builds/1";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

type State = Lightmaps["assets"][number]["maps"][number]["state"];
const map = (state: State, light_set: string | null = null) => ({
  light_set,
  state,
  stale_texels: state === "stale" ? 640 : 0,
  why: state === "stale" ? ["lamp lantern"] : [],
});
const sheet = (...assets: [string, ReturnType<typeof map>[]][]) =>
  part<Lightmaps>({ assets: assets.map(([asset, maps]) => ({ asset, maps })) });
const job = (over: object) => ({
  id: 7,
  state: "running",
  progress: 0.5,
  message: "baking leaf, on",
  ...over,
});

describe("baking", () => {
  test("says what is stale and missing, with the reason, and asks for exactly that", async () => {
    const asked = serve({ [`GET ${BUILD}/bakes`]: [], [`POST ${BUILD}/bakes`]: {} });
    const open = sheet(["leaf", [map("stale", "on"), map("fresh", "off")]], ["rail", [map("missing")]]);
    render(<BakeBox project={1} build={1} sheet={open} list />, { wrapper: around });
    expect(await screen.findByText("1 stale, 1 missing")).toBeTruthy();
    const list = screen.getByRole("list", { name: "Stale and missing lightmaps" });
    expect(within(list).getByText("lamp lantern")).toBeTruthy();
    expect(within(list).getByText("stale 640 texels")).toBeTruthy();
    expect(within(list).getByRole("link", { name: "leaf" }).getAttribute("href")).toBe(
      "/p/1/b/1/lightmaps/leaf",
    );
    fireEvent.click(screen.getByRole("button", { name: "Bake 2 lightmaps" }));
    await waitFor(() => expect(asked.some((a) => a.method === "POST")).toBe(true));
    expect(asked.find((a) => a.method === "POST")?.body).toEqual({ assets: null, light_sets: null });
  });
  test("of one asset asks for that asset alone", async () => {
    const asked = serve({ [`GET ${BUILD}/bakes`]: [], [`POST ${BUILD}/bakes`]: {} });
    const open = sheet(["leaf", [map("stale")]], ["rail", [map("missing")]]);
    render(<BakeBox project={1} build={1} sheet={open} assets={["rail"]} />, { wrapper: around });
    fireEvent.click(screen.getByRole("button", { name: "Bake one lightmap" }));
    await waitFor(() =>
      expect(asked.find((a) => a.method === "POST")?.body).toEqual({ assets: ["rail"], light_sets: null }),
    );
  });
  test("under way shows each map and can be cancelled", async () => {
    const wanted = [
      ["leaf", "on"],
      ["leaf", "off"],
      ["rail", null],
    ];
    const asked = serve({
      [`GET ${BUILD}/bakes`]: [{ job: job({}), wanted, done: [["rail", null]] }],
      "POST /api/projects/1/jobs/7/cancel": {},
    });
    render(<BakeBox project={1} build={1} sheet={sheet(["leaf", [map("stale", "on")]])} list />, {
      wrapper: around,
    });
    expect(await screen.findByText("1 of 3")).toBeTruthy();
    const rows = within(screen.getByRole("list", { name: "Lightmaps of this bake" })).getAllByRole(
      "listitem",
    );
    expect(rows.map((r) => r.textContent)).toEqual([
      "leaf onbaking",
      "leaf offwaits",
      "rail lights as set✓ baked",
    ]);
    expect(screen.queryByRole("button", { name: /^Bake/ })).toBeNull();
    fireEvent.click(screen.getByRole("button", { name: "Cancel" }));
    await waitFor(() => expect(asked.some((a) => a.path === "/api/projects/1/jobs/7/cancel")).toBe(true));
  });
  test("that is done says so, and what ended otherwise says how", async () => {
    const ended = {
      job: job({ state: "cancelled", message: "1 of 3 lightmaps kept" }),
      wanted: [],
      done: [],
    };
    serve({ [`GET ${BUILD}/bakes`]: [ended] });
    render(<BakeBox project={1} build={1} sheet={sheet(["leaf", [map("fresh")]])} />, { wrapper: around });
    expect(screen.getByText("✓ Every lightmap fits the build.")).toBeTruthy();
    expect(await screen.findByText("Last bake cancelled: 1 of 3 lightmaps kept.")).toBeTruthy();
  });
  test("that is refused says why", async () => {
    serve({
      [`GET ${BUILD}/bakes`]: [],
      [`POST ${BUILD}/bakes`]: { status: 409, detail: "a bake of this build is under way" },
    });
    render(<BakeBox project={1} build={1} sheet={sheet(["leaf", [map("missing")]])} />, { wrapper: around });
    fireEvent.click(screen.getByRole("button", { name: "Bake one lightmap" }));
    expect(await screen.findByText("a bake of this build is under way")).toBeTruthy();
  });
});

const chart = (over: object = {}) => ({
  triangles: 2,
  mirrored: false,
  skew_deg: 0,
  texels_per_m: 8,
  stretch_l2: 1,
  ...over,
});

test("charts are listed for those who cannot see the page: few first, then all", () => {
  const charts = Array.from({ length: 20 }, (_, i) => chart({ triangles: i + 1 }));
  charts[1] = chart({ mirrored: true, skew_deg: null, stretch_l2: null });
  charts[2] = chart({ skew_deg: -7, stretch_l2: 1.25 });
  render(<ChartList report={part<ChartReport>({ charts, page_tiles: 2 })} />);
  const rows = () => screen.getAllByRole("row", { hidden: true }).slice(1);
  expect(rows()).toHaveLength(12);
  expect(rows()[1]?.textContent).toBe("1 mirrored24–∞");
  expect(rows()[2]?.textContent).toBe("224-7.00°1.25");
  fireEvent.click(screen.getByRole("button", { name: "Show all 20", hidden: true }));
  expect(rows()).toHaveLength(20);
});

test("what is worth baking is measured when asked, with what is skipped and why", async () => {
  const one = (node: string, why = "") => ({
    node,
    why,
    value: why ? 0.01 : 1,
    triangles: 12,
    resolution: 64,
    bake_s: 100,
  });
  const asked = serve({
    [`GET ${BUILD}/worth-baking`]: {
      candidates: [one("floor"), one("bolts", "its light is even: one value would do")],
      unwrap_all_s: 1777680,
      unwrap_chosen_s: 80,
      memory_bytes: { shared: 16384, handheld: 4096 },
    },
  });
  render(<WorthBaking project={1} build={1} />, { wrapper: around });
  expect(asked).toHaveLength(0);
  fireEvent.click(screen.getByRole("button", { name: "Measure" }));
  expect(await screen.findByText("its light is even: one value would do")).toBeTruthy();
  expect(screen.getByText("64²")).toBeTruthy();
  expect(screen.getByText("skip")).toBeTruthy();
  const prose = screen.getByText(/Unwrapping all takes/).textContent ?? "";
  // 1 777 680 s are 493.8 hours.
  expect(prose).toContain(`493.8${THIN}h`);
  expect(prose).toContain(`80${THIN}s`);
  expect(prose).toContain(`1.667${THIN}min`);
  expect(prose).toContain(`shared 16${THIN}KiB, handheld 4${THIN}KiB`);
});

describe("repairs of charts", () => {
  const where = { project: 1, build: 1, asset: "leaf/a", target: "handheld" };
  const WHAT_IF = `POST ${BUILD}/lightmaps/leaf%2Fa/what-if`;
  function Both({ show }: { show: (w: WhatIf | null) => void }) {
    const acts = useRepairs(where, show);
    return (
      <>
        <Copies where={where} acts={acts} chosen={null} />
        <Repairs mesh="leaf" acts={acts} />
      </>
    );
  }
  const copies = {
    rules: {
      mirrored: {
        kind: "mirror",
        planes: [
          { axis: "x", uv_offset: [1, 0] },
          { axis: "y", uv_offset: [0, 1] },
        ],
        uv_offset: [0, 0],
      },
      railing: { kind: "array", count: 7, uv_offset: [0, -0.5], material: "steel" },
      skin: { kind: "shell", strip: "edge", uv_offset: [0, 0] },
    },
    remedies: [
      {
        title: "as it is",
        change: null,
        cures: false,
        surface_share: 1,
        texels_per_m: 8,
        price: "",
      },
      {
        title: "a step for each plane",
        change: { title: "a step for each plane", id: "c" },
        cures: true,
        surface_share: 0,
        texels_per_m: 8,
        price: "a wider page",
      },
    ],
  };
  test("copies are told as rules, and each way out with what it shares and costs", async () => {
    serve({ [`GET ${BUILD}/lightmaps/leaf%2Fa/copies`]: copies, [`GET ${BUILD}`]: { version: 4 } });
    render(<Both show={() => {}} />, { wrapper: around });
    const list = within(await screen.findByRole("region", { name: "Copies" }));
    expect(await list.findByText("mirrored: mirror x and y")).toBeTruthy();
    expect(list.getByText("x: U +1 · y: V +1")).toBeTruthy();
    expect(list.getByText("V -0.5 · steel")).toBeTruthy();
    expect(list.getByText("skin: shell, edge strip edge")).toBeTruthy();
    expect(list.getByText("100 % shared")).toBeTruthy();
    expect(list.getByText("8 texels/m; a wider page")).toBeTruthy();
    expect(list.queryByRole("button", { name: "keep as it is" })).toBeNull();
  });
  test("a way out is shown on the page first, and kept on the version it was made on", async () => {
    const asked = serve({
      [`GET ${BUILD}/lightmaps/leaf%2Fa/copies`]: copies,
      [`GET ${BUILD}`]: { version: 4 },
      [WHAT_IF]: { report: { charts: [] } },
      [`POST ${BUILD}/ledger`]: {},
    });
    const show = vi.fn();
    render(<Both show={show} />, { wrapper: around });
    fireEvent.click(await screen.findByText("a step for each plane"));
    await waitFor(() => expect(show).toHaveBeenCalled());
    expect(show.mock.calls[0]?.[0].title).toBe("a step for each plane");
    expect(asked.find((a) => a.path.includes("what-if"))?.path).toContain("target=handheld");
    fireEvent.click(screen.getByRole("button", { name: "keep a step for each plane" }));
    await waitFor(() => expect(show).toHaveBeenLastCalledWith(null));
    const kept = asked.find((a) => a.path === `${BUILD}/ledger`);
    expect(kept?.headers.get("If-Match")).toBe("4");
    expect((kept as { body: { change: { id: string } } }).body.change.id).toBe("c");
  });
  test("packing takes the mip and the density that were asked for", async () => {
    const asked = serve({
      [`GET ${BUILD}/lightmaps/leaf%2Fa/copies`]: { rules: {}, remedies: [] },
      [`GET ${BUILD}`]: { version: 4 },
      [WHAT_IF]: { status: 422, detail: "64 texels/m do not fit a page of 32" },
    });
    render(<Both show={() => {}} />, { wrapper: around });
    fireEvent.change(screen.getByLabelText("safe to mip"), { target: { value: "3" } });
    fireEvent.change(screen.getByLabelText("texels/m"), { target: { value: "64" } });
    fireEvent.click(screen.getByRole("button", { name: "Pack" }));
    expect(await screen.findByText("64 texels/m do not fit a page of 32")).toBeTruthy();
    const body = asked.find((a) => a.path.includes("what-if"))?.body as {
      change: { title: string; operation: { params: object } };
    };
    expect(body.change.operation.params).toEqual({ mesh: "leaf", safe_mip: 3, texels_per_m: 64 });
    expect(body.change.title).toBe("pack the charts of leaf, safe to mip 3, 64 texels/m");
  });
});

describe("how the page is shown", () => {
  const showing = { filter: "nearest", denoise: "", encoding: "", brighter: 0, state: "head" } as const;
  const bar = (mode: "charts" | "bake" | "density", show = vi.fn()) => {
    render(
      <ViewBar
        mode={mode}
        showing={showing}
        show={show}
        white={812.4}
        densities={[4, 16]}
        download="/x.exr"
      />,
    );
    return show;
  };
  test("every mark of the page stands in its key", () => {
    bar("charts");
    const key = within(screen.getByRole("list", { name: "Key" })).getAllByRole("listitem");
    expect(key.map((k) => k.textContent)).toEqual([
      "chart",
      "mirrored",
      "skewed",
      "shared",
      "needless split",
      "leak",
    ]);
  });
  test("density has its range in texels a metre", () => {
    bar("density");
    expect(screen.getByText(/16 texels\/m/).textContent).toContain("4");
  });
  test("a map is read, smoothed and stored otherwise by choice", () => {
    const show = bar("bake");
    fireEvent.change(screen.getByLabelText("Read"), { target: { value: "linear" } });
    fireEvent.change(screen.getByLabelText("Denoise"), { target: { value: "within_charts" } });
    fireEvent.change(screen.getByLabelText("Depth"), { target: { value: "half" } });
    fireEvent.change(screen.getByRole("slider"), { target: { value: "2" } });
    expect(show.mock.calls.map((c) => c[0])).toEqual([
      { filter: "linear" },
      { denoise: "within_charts" },
      { encoding: "half" },
      { brighter: 2 },
    ]);
    expect(screen.getByText("white 812.4 lx")).toBeTruthy();
    expect(screen.getByRole("link", { name: "OpenEXR" }).getAttribute("href")).toBe("/x.exr");
  });
  test("modes are buttons that say which is on", () => {
    const choose = vi.fn();
    render(<ModeBar mode="bake" choose={choose} />);
    expect(screen.getByRole("button", { name: "bake" }).getAttribute("aria-pressed")).toBe("true");
    fireEvent.click(screen.getByRole("button", { name: "density" }));
    expect(choose).toHaveBeenCalledWith("density");
  });
});

describe("the page by keyboard", () => {
  class Still {
    observe() {}
    disconnect() {}
  }
  const drawn = part<Drawn>({
    page: { index: new ChartIndex(new Float32Array([0, 0, 1, 0, 0, 1])), chart: new Int32Array([0]) },
    report: { resolution: 64, charts: [chart()], overlap: { surface_share: 0 } },
    mode: "charts",
    map: null,
    leaks: [],
    densities: [8, 8],
  });
  const open = (texel: [number, number] | null) => {
    vi.stubGlobal("ResizeObserver", Still);
    vi.spyOn(HTMLCanvasElement.prototype, "getContext").mockReturnValue(null);
    const pick = vi.fn();
    render(
      <ChartPage
        drawn={drawn}
        texel={texel}
        tied={null}
        label="Page of leaf"
        onHover={() => {}}
        onPick={pick}
      />,
    );
    return { pick, page: screen.getByRole("application", { name: "Page of leaf" }) };
  };
  test("arrows move a texel, with shift eight, and Enter asks about it", () => {
    const { pick, page } = open([30, 62]);
    for (const key of ["ArrowLeft", "ArrowDown", "ArrowDown"]) fireEvent.keyDown(page, { key });
    fireEvent.keyDown(page, { key: "ArrowRight", shiftKey: true });
    fireEvent.keyDown(page, { key: "Enter" });
    expect(pick).toHaveBeenCalledWith([37, 63]); // the page ends at 63
  });
  test("without a texel they start in the middle, and other keys are left alone", () => {
    const { pick, page } = open(null);
    fireEvent.keyDown(page, { key: "Enter" });
    expect(pick).not.toHaveBeenCalled();
    expect(fireEvent.keyDown(page, { key: "Tab" })).toBe(true);
    expect(fireEvent.keyDown(page, { key: "ArrowUp" })).toBe(false);
    fireEvent.keyDown(page, { key: "Enter" });
    expect(pick).toHaveBeenCalledWith([32, 31]);
  });
  test("magnifying has buttons, and says how far", () => {
    open([1, 1]);
    fireEvent.click(screen.getByRole("button", { name: "larger" }));
    expect(screen.getByTestId("magnified").textContent).toMatch(/×$/);
    fireEvent.click(screen.getByRole("button", { name: "fit the page" }));
    expect(screen.getByTestId("magnified").textContent).toBe("1.0×");
  });
});
