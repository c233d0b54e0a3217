import { cleanup, fireEvent, render, screen, waitFor, within } from "@testing-library/react";
import type { ReactNode } from "react";
import { afterEach, describe, expect, test, vi } from "vitest";
import { App } from "../app/App";
import { around, serve } from "../testing";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const BUILD = "GET /api/projects/1/builds/1";
const build = (over: object = {}) => ({
  number: 1,
  name: "quay.glb",
  version: 3,
  kept: 0,
  created: "2026-11-20T10:00:00Z",
  has_own_setup: true,
  viewpoints: [{ key: "quay", role: "play", capture: false }],
  targets: ["handheld"],
  files: [{ kind: "scene", name: "quay.glb", size: 2048 }],
  facts: {
    triangles: 12345,
    vertices: 9000,
    drawables: 7,
    meshes: 3,
    nodes: 9,
    materials: 4,
    images: 1,
    lights: 2,
    cameras: 1,
    skins: 1,
    clips: [{ name: "lift", ends_s: 1.5, moves: 3 }],
    bounds_m: { low: [-1, 0, 0], high: [11, 4.5, 8] },
    left_out: ["skin of crane: skins are not read", "  12 vertices stay at rest"],
    image_sizes: [
      { name: "stone", width: 512, height: 256, roles: ["base colour", "emissive"] },
      { name: "", width: 4, height: 4, roles: [] },
    ],
  },
  ...over,
});
const everyone = {
  "GET /api/session": { username: "ana", demo: false, version: "1" },
  "GET /api/projects/1": {
    id: 1,
    name: "Quay",
    builds: 1,
    newest: 1,
    role: "lead",
    created: "2026-11-20T10:00:00Z",
  },
  "GET /api/projects/1/jobs": [],
  "GET /api/projects/1/members": [
    { username: "ana", role: "lead" },
    { username: "ben", role: "viewer" },
  ],
  "GET /api/projects/1/builds": [build()],
  [BUILD]: build(),
  [`${BUILD}/deliveries`]: [],
};
function open(path: string, answers: Record<string, unknown> = {}) {
  const asked = serve({ ...everyone, ...answers });
  const wrapper = ({ children }: { children?: ReactNode }) => around({ children, at: path });
  render(<App />, { wrapper });
  return asked;
}

describe("intake", () => {
  test("says what was read, how large it is, and what was left out", async () => {
    open("/p/1/b/1/intake");
    expect(
      await screen.findByRole("heading", { name: /Build 1: 12.345 triangles in 7 drawables/ }),
    ).toBeTruthy();
    expect(screen.getByText("with its own settings")).toBeTruthy();
    expect(screen.getByText("12 × 4.5 × 8 m")).toBeTruthy();
    expect(screen.getByText("skin of crane: skins are not read")).toBeTruthy();
    expect(screen.getByText("12 vertices stay at rest").className).toContain("pl-4");
    const textures = screen.getByRole("heading", { name: "Textures" }).closest("section") as HTMLElement;
    const rows = within(textures).getAllByRole("row").slice(1);
    expect(rows.map((r) => r.textContent)).toEqual([
      "stonebase colour, emissive512 × 256",
      "unnamednot used4 × 4",
    ]);
    expect(screen.getByRole("img", { name: "frame of quay" }).getAttribute("src")).toBe(
      "/api/projects/1/builds/1/frames/quay?width=480&height=270&state=built",
    );
    expect(screen.getByText("clip: lift").closest("tr")?.textContent).toContain("1.5 s, moves 3 nodes");
  });

  test("draws every viewpoint at a moment of a clip, once one stays there", async () => {
    open("/p/1/b/1/intake");
    const picture = () => screen.getByRole("img", { name: "frame of quay" }).getAttribute("src") ?? "";
    fireEvent.change(await screen.findByLabelText("Clip"), { target: { value: "lift" } });
    await waitFor(() => expect(picture()).toContain("&clip=lift&time_s=0"));
    fireEvent.change(screen.getByLabelText(/Moment/), { target: { value: "0.75" } });
    await waitFor(() => expect(picture()).toContain("&clip=lift&time_s=0.75"));
    expect(screen.getByText("0.75 s")).toBeTruthy();
    fireEvent.change(screen.getByLabelText("Clip"), { target: { value: "" } });
    await waitFor(() => expect(picture()).not.toContain("clip"));
    expect(screen.queryByLabelText(/Moment/)).toBeNull();
  });
  test("of a scene without settings or losses says so", async () => {
    const facts = { ...build().facts, left_out: [], image_sizes: [] };
    open("/p/1/b/1/intake", { [BUILD]: build({ has_own_setup: false, facts }) });
    expect(await screen.findByText("came without settings; they were fitted")).toBeTruthy();
    expect(screen.getByText(/Nothing was left out/)).toBeTruthy();
    expect(screen.getByText("The scene has no textures.")).toBeTruthy();
  });
  test("a lead invites and removes; what is refused is told", async () => {
    const asked = open("/p/1/b/1/intake", {
      "POST /api/projects/1/members": { status: 404, detail: "nobody is called cleo" },
      "DELETE /api/projects/1/members/ben": {},
    });
    fireEvent.click(await screen.findByRole("button", { name: "remove ben" }));
    await waitFor(() => expect(asked.some((a) => a.method === "DELETE")).toBe(true));
    fireEvent.change(screen.getByLabelText("name"), { target: { value: "cleo" } });
    fireEvent.change(screen.getByLabelText("role"), { target: { value: "artist" } });
    fireEvent.click(screen.getByRole("button", { name: "Invite" }));
    expect(await screen.findByText("nobody is called cleo")).toBeTruthy();
    expect(asked.find((a) => a.method === "POST")?.body).toEqual({ username: "cleo", role: "artist" });
  });
  test("a viewer sees who is there and changes nothing", async () => {
    open("/p/1/b/1/intake", {
      "GET /api/projects/1": { ...everyone["GET /api/projects/1"], role: "viewer" },
    });
    expect(await screen.findByText("ben")).toBeTruthy();
    expect(screen.queryByRole("button", { name: "remove ben" })).toBeNull();
    expect(screen.queryByRole("button", { name: "Invite" })).toBeNull();
  });
  test("scene and settings are told apart by their names, and a build needs a scene", async () => {
    open("/p/1", { "GET /api/projects/1/builds": [] });
    const input = await screen.findByLabelText("Scene and settings files");
    const bring = screen.getByRole("button", { name: "Bring it in" }) as HTMLButtonElement;
    const file = (name: string) => new File(["x"], name);
    fireEvent.change(input, { target: { files: [file("quay.setup.json")] } });
    expect(bring.disabled).toBe(true);
    fireEvent.change(input, { target: { files: [file("quay.setup.json"), file("Quay.GLB")] } });
    expect(screen.getByText("scene: Quay.GLB")).toBeTruthy();
    expect(screen.getByText("settings: quay.setup.json")).toBeTruthy();
    expect(bring.disabled).toBe(false);
  });
});

describe("all lightmaps", () => {
  const asset = (name: string, over: object = {}) => ({
    asset: name,
    mesh: name,
    node: name,
    resolution: 64,
    page_texels_per_m: 8,
    overlap: { surface_share: 0, texel_share: 0, pairs: 0 },
    gutter_texels: 4.25,
    safe_mip: 1,
    degenerate: 0,
    out_of_range_share: 0,
    uv_use: "repacked",
    skew_deg: null,
    splits: 0,
    density_spread: 1,
    copies: false,
    troubles: [],
    maps: [{ light_set: null, state: "fresh", stale_texels: 0, why: [] }],
    ...over,
  });
  const sheet = (...assets: object[]) => ({
    assets,
    light_sets: [null],
    memory: [
      { target: null, bytes: 16384 },
      { target: "handheld", bytes: 4096 },
    ],
  });
  const stale = [{ light_set: null, state: "stale", stale_texels: 640, why: ["lamp lantern"] }];
  const old = { words: "its lightmap is stale", weight: 70 };
  const answers = {
    [`${BUILD}/bakes`]: [],
    [`${BUILD}/lightmaps`]: sheet(
      asset("wall"),
      asset("floor", { maps: stale, gutter_texels: null, safe_mip: null, troubles: [old] }),
      asset("leaf", {
        copies: true,
        maps: stale,
        troubles: [
          { words: "50 % of its surface shares texels", weight: 90.5 },
          old,
          { words: "a chart lies 7.0° off the texel grid", weight: 50 },
        ],
      }),
    ),
  };
  test("the worst comes first, each with what is wrong and whether its maps still fit", async () => {
    open("/p/1/b/1/lightmaps", answers);
    expect(await screen.findByRole("heading", { name: "3 lightmapped assets: 2 stale" })).toBeTruthy();
    const rows = within(screen.getByRole("table")).getAllByRole("row").slice(1);
    expect(rows.map((r) => within(r).getByRole("link").textContent)).toEqual(["leaf", "floor", "wall"]);
    expect(rows[0]?.textContent).toContain("50 % of its surface shares texels and 2 more");
    expect(rows[1]?.textContent).toContain("one chart");
    expect(rows[1]?.textContent).toContain("its lightmap is stale");
    expect(rows[2]?.textContent).toContain("✓ fit");
    expect(rows[2]?.textContent).toContain("4.3 mip 1");
    expect(screen.getAllByTitle("lights as set: lamp lantern")).toHaveLength(2);
    expect(screen.getByText(/Memory of all maps: project 16 KiB · handheld 4 KiB/)).toBeTruthy();
    expect(await screen.findByText("2 stale (1 280 texels) of 3")).toBeTruthy();
  });
  test("are found by name", async () => {
    open("/p/1/b/1/lightmaps", answers);
    fireEvent.change(await screen.findByLabelText("Find"), { target: { value: "WAL" } });
    expect(
      within(screen.getByRole("table"))
        .getAllByRole("link")
        .map((l) => l.textContent),
    ).toEqual(["wall"]);
  });
  test("none at all says how one comes about", async () => {
    open("/p/1/b/1/lightmaps", { ...answers, [`${BUILD}/lightmaps`]: sheet() });
    expect(await screen.findByText("Nothing has a lightmap here")).toBeTruthy();
    expect(screen.getByRole("button", { name: "Measure" })).toBeTruthy();
    expect(screen.queryByRole("region", { name: "Bake" })).toBeNull();
  });
  test("that cannot be measured say why", async () => {
    open("/p/1/b/1/lightmaps", {
      [`${BUILD}/lightmaps`]: { status: 422, detail: "mesh leaf has no TEXCOORD_1" },
    });
    expect(await screen.findByText("mesh leaf has no TEXCOORD_1")).toBeTruthy();
  });
});

describe("the sweep", () => {
  const job = (over: object = {}) => ({
    id: 4,
    state: "done",
    progress: 1,
    message: "",
    ended: "2026-11-20T10:00:00Z",
    ...over,
  });
  const one = (over: object = {}) => ({
    id: 8,
    target: null,
    head_version: 3,
    underway: [],
    created: "2026-11-20T10:00:00Z",
    findings: 0,
    job: job(),
    left_out: [],
    gone: [],
    items: [],
    codes: [],
    tide: [],
    ...over,
  });
  test("that has not been made says what it does", async () => {
    open("/p/1/b/1/sweep", { [`${BUILD}/sweeps`]: [] });
    expect(await screen.findByRole("heading", { name: "Build 1: not swept yet" })).toBeTruthy();
    expect(await screen.findByText(/A sweep looks from every play viewpoint/)).toBeTruthy();
  });
  test("under way tells how far it is, and cannot be asked for twice", async () => {
    const running = one({ job: job({ state: "running", progress: 0.42, message: "quay" }) });
    open("/p/1/b/1/sweep", { [`${BUILD}/sweeps`]: [running] });
    const status = await screen.findByText("42 %");
    expect(status.closest("p")?.textContent).toContain("quay");
    expect((screen.getByRole("button", { name: "Sweep" }) as HTMLButtonElement).disabled).toBe(true);
  });
  test("older than the ledger says so; another is asked for on a target", async () => {
    const done = one({ head_version: 2 });
    const asked = open("/p/1/b/1/sweep", {
      [`${BUILD}/sweeps`]: [done],
      [`${BUILD}/sweeps/8`]: done,
      "POST /api/projects/1/builds/1/sweeps": {},
    });
    expect(await screen.findByRole("heading", { name: "Build 1: clean" })).toBeTruthy();
    expect(screen.getByText(/The ledger has changed since this sweep/)).toBeTruthy();
    fireEvent.change(screen.getByLabelText("Target"), { target: { value: "handheld" } });
    fireEvent.click(screen.getByRole("button", { name: "Sweep again" }));
    await waitFor(() => expect(asked.find((a) => a.method === "POST")?.body).toEqual({ target: "handheld" }));
  });
  test("that failed or was cancelled says so and keeps the one before", async () => {
    const failed = one({ id: 9, job: job({ state: "failed", message: "the worker ran out of memory" }) });
    open("/p/1/b/1/sweep", { [`${BUILD}/sweeps`]: [failed, one()], [`${BUILD}/sweeps/8`]: one() });
    expect(await screen.findByText("The last sweep failed: the worker ran out of memory")).toBeTruthy();
    expect(await screen.findByRole("heading", { name: "Build 1: clean" })).toBeTruthy();
  });
});
