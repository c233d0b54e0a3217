import { cleanup, fireEvent, render, screen, waitFor, within } from "@testing-library/react";
import { afterEach, describe, expect, test, vi } from "vitest";
import { App } from "../../app/App";
import { around, serve } from "../../testing";
import { FirstFrames } from "./FirstFrames";
import { Supplied } from "./Supplied";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const BUILD = "/api/projects/1/builds/1";
const build = {
  number: 1,
  name: "store",
  version: 3,
  viewpoints: [{ key: "helmets", role: "play", fov_y_deg: 50, camera: null, capture: false }],
  targets: ["desk", "handheld"],
  facts: {},
  files: [],
};

function open(at: string, answers: Record<string, unknown>) {
  const asked = serve({
    "GET /api/session": { username: "ana", demo: false, version: "1" },
    "GET /api/projects/1": {
      id: 1,
      name: "Store",
      builds: 2,
      newest: 1,
      role: "lead",
      created: "2026-11-20T10:00:00Z",
    },
    "GET /api/projects/1/jobs": [],
    "GET /api/projects/1/builds": [
      { ...build, created: "2026-11-20T10:00:00Z" },
      { ...build, number: 2, name: "older", created: "2026-11-19T10:00:00Z" },
    ],
    [`GET ${BUILD}`]: build,
    ...answers,
  });
  render(<App />, { wrapper: ({ children }) => around({ children, at }) });
  return asked;
}

const value = (name: string, role: string | null, over: object = {}) => ({
  name,
  said: 0.7,
  unit: "-",
  role,
  how: "one_minus",
  comes_to: role ? 0.3 : null,
  to: null,
  fate: role ? "computed" : "no place",
  ...over,
});
const row = (material: string, kind: string, over: object = {}) => ({
  material,
  before: "lacquer",
  after: "stock_opaque",
  kind,
  why: kind === "special" ? ["blink: no other base shader has it"] : [],
  values: [value("shine", "roughness")],
  pictures: [],
  how: "",
  factors: { base_rgb: [0.5, 0.2, 0.1], roughness: 0.3, metallic: 0, ior: 1.5, specular: 1, alpha: 1 },
  change: { id: `convert ${material}` },
  ...over,
});
const conversions = (over: object = {}) => ({
  target: null,
  to: null,
  rows: [row("helmet", "converts"), row("lamp", "special", { values: [value("blink", null)] })],
  special: ["lamp"],
  seen: [
    { viewpoint: "helmets", error_before: 0, error_after: 0, pixels: 0, mean_de: 0, most_de: 0 },
    { viewpoint: "shelf", error_before: 1200, error_after: 200, pixels: 1000, mean_de: 0.12, most_de: 0.5 },
  ],
  change: { id: "both" },
  ...over,
});

describe("base shaders that are not here", () => {
  test("tells what converts, opens what becomes of it, and keeps all by K", async () => {
    const asked = open("/p/1/b/1/intake/conversion", {
      [`GET ${BUILD}/conversions`]: conversions(),
      [`POST ${BUILD}/ledger`]: { version: 4 },
    });
    await screen.findByRole("heading", {
      name: "Base shaders that are not here: 1 material converts, 1 is special",
    });
    const values = screen.getByRole("table", { name: "Values of helmet" });
    expect(values.textContent).toContain("shine0.7roughness1 less it0.3");
    const lamp = screen.getByRole("row", { name: "lamp: stays as it is" });
    fireEvent.keyDown(lamp, { key: "ArrowDown" });
    expect(document.activeElement).toBe(lamp);
    fireEvent.keyDown(lamp, { key: "Enter" });
    expect(screen.getByText("blink: no other base shader has it")).toBeTruthy();
    expect(screen.getByText("no place")).toBeTruthy();
    fireEvent.keyDown(lamp, { key: "k" });
    await waitFor(() => expect(asked.some((a) => a.method === "POST")).toBe(true));
    const kept = asked.find((a) => a.method === "POST");
    expect(kept?.headers.get("If-Match")).toBe("3");
    expect(kept?.body).toMatchObject({ change: { id: "both" } });
  });

  test("shows where most is in the error colour, and converts a special one alone when asked", async () => {
    const asked = open("/p/1/b/1/intake/conversion?target=handheld", {
      [`GET ${BUILD}/conversions`]: conversions(),
    });
    const frames = await screen.findByLabelText("Frames before and after");
    expect(frames.textContent).toContain("1\u202f200 px in the error colour, then 200");
    expect(within(frames).getByAltText("shelf converted").getAttribute("src")).toBe(
      `${BUILD}/conversions/frames/after/shelf?stamp=3&target=handheld`,
    );
    fireEvent.click(screen.getByRole("button", { name: "lamp" }));
    fireEvent.click(screen.getByRole("button", { name: "Convert it all the same" }));
    await waitFor(() =>
      expect(asked.some((a) => a.path === `${BUILD}/conversions?target=handheld&material=lamp`)).toBe(true),
    );
  });

  test("shows all of them again once a special one is kept", async () => {
    const asked = open("/p/1/b/1/intake/conversion?material=lamp", {
      [`GET ${BUILD}/conversions`]: conversions({ rows: [row("lamp", "special")], special: ["lamp"] }),
      [`POST ${BUILD}/ledger`]: { version: 4 },
    });
    fireEvent.click(await screen.findByRole("button", { name: /^Keep lamp converted/ }));
    await waitFor(() => expect(asked.some((a) => a.path === `${BUILD}/conversions`)).toBe(true));
    expect(screen.queryByRole("button", { name: "All of them again" })).toBeNull();
  });

  test("says that nothing is in the error colour, or what was refused", async () => {
    open("/p/1/b/1/intake/conversion", {
      [`GET ${BUILD}/conversions`]: conversions({ rows: [], special: [], change: null }),
    });
    expect(await screen.findByText("Nothing is drawn in the error colour")).toBeTruthy();
    cleanup();
    open("/p/1/b/1/intake/conversion?to=none", {
      [`GET ${BUILD}/conversions`]: { status: 422, detail: "base shader 'none' does not exist" },
    });
    expect(await screen.findByText("base shader 'none' does not exist")).toBeTruthy();
  });
});

const twin = (mesh: string, over: object = {}) => ({
  mesh,
  source: "this build",
  apart_mm: 0.0001,
  most_mm: 0.3,
  mirrored: false,
  end_fit_mm: 0.02,
  unlike: 0,
  place: [],
  outline: { lines: [[0, 0, 400, 0]], size: [400, 300, 100] },
  change: { id: `stand ${mesh}` },
  ...over,
});
const missing = (name: string, over: object = {}) => ({
  name,
  how: "name",
  guess: true,
  like: "elbow_0",
  at_m: [1, 2, 3],
  outline: { lines: [[0, 0, 400, 300]], size: [400, 300, 100] },
  twins: [
    twin("elbow_0"),
    twin("elbow_9", { mirrored: true, source: "the older build", change: null, brought: true, apart_mm: 4 }),
  ],
  ...over,
});

describe("twins of what is missing", () => {
  test("are outlined, told in numbers, shown in their place, and kept by K", async () => {
    const asked = open("/p/1/b/1/intake/twins", {
      [`GET ${BUILD}/twins`]: { missing: [missing("elbow_2"), missing("post_7")] },
      [`POST ${BUILD}/ledger`]: { version: 4 },
    });
    await screen.findByRole("heading", { name: "2 things are missing" });
    expect(screen.getByLabelText("elbow_2").textContent).toContain("a guess by name, as elbow_0");
    expect(screen.getByText("< 0.01 mm")).toBeTruthy();
    expect(screen.getByRole("list", { name: "Outlines at one scale" }).querySelectorAll("svg")).toHaveLength(
      3,
    );
    expect(screen.getByAltText("elbow_0 in the place of elbow_2").getAttribute("src")).toBe(
      `${BUILD}/twins/elbow_2/picture?stamp=3&rank=0`,
    );
    fireEvent.keyDown(window, { key: "b" });
    expect(await screen.findByAltText("the place of elbow_2")).toBeTruthy();
    fireEvent.keyUp(window, { key: "b" });
    const first = screen.getAllByRole("row")[1] as HTMLElement;
    fireEvent.keyDown(first, { key: "k" });
    await waitFor(() => expect(asked.filter((a) => a.method === "POST")).toHaveLength(1));
    expect(asked.find((a) => a.method === "POST")?.body).toMatchObject({ change: { id: "stand elbow_0" } });
  });

  test("of another build are fetched with their mesh, and kept", async () => {
    const asked = open("/p/1/b/1/intake/twins", {
      [`GET ${BUILD}/twins`]: { missing: [missing("elbow_2")] },
      [`GET ${BUILD}/twins/elbow_2/change`]: { id: "brought elbow_9" },
      [`POST ${BUILD}/ledger`]: { version: 4 },
    });
    await screen.findByLabelText("elbow_2");
    const first = screen.getAllByRole("row")[1] as HTMLElement;
    fireEvent.keyDown(first, { key: "ArrowDown" });
    expect(screen.getByText(/the change brings its mesh along/)).toBeTruthy();
    expect(screen.getByAltText("elbow_9 in the place of elbow_2")).toBeTruthy();
    fireEvent.keyDown(document.activeElement as HTMLElement, { key: "k" });
    await waitFor(() => expect(asked.filter((a) => a.method === "POST")).toHaveLength(1));
    expect(asked.find((a) => a.method === "POST")?.body).toMatchObject({ change: { id: "brought elbow_9" } });
    expect(asked.some((a) => a.path === `${BUILD}/twins/elbow_2/change?rank=1`)).toBe(true);
  });

  test("go from one missing thing to the next by brackets, and may be looked for in an older build", async () => {
    const asked = open("/p/1/b/1/intake/twins", {
      [`GET ${BUILD}/twins`]: { missing: [missing("elbow_2"), missing("post_7")] },
    });
    await screen.findByLabelText("elbow_2");
    fireEvent.keyDown(window, { key: "]" });
    expect(await screen.findByLabelText("post_7")).toBeTruthy();
    fireEvent.change(screen.getByLabelText("An older build, which knows what stood where"), {
      target: { value: "2" },
    });
    await waitFor(() => expect(asked.some((a) => a.path === `${BUILD}/twins?older=2`)).toBe(true));
  });
});

test("supplied pictures are told with their places, what is not sure and what is left", () => {
  const found = { image: 0, name: "", file: "gate_albedo.png", uses: [["gate", "base"]], apart: null };
  const told = {
    supply: {
      found: [
        { ...found, picture: "gate_albedo.png", how: "name", sure: true },
        {
          ...found,
          image: 1,
          file: "gate_nrm.png",
          picture: "n.png",
          how: "the only one of its kind",
          sure: false,
        },
      ],
      missing: [{ ...found, image: 2, file: "wall.jpg" }],
      left: ["moss.png"],
    },
    delivery: { id: 9 },
  };
  // biome-ignore lint/suspicious/noExplicitAny: the delivery is only linked to
  const shown = render(around({ children: <Supplied told={told as any} project={1} build={2} /> }));
  expect(shown.container.textContent).toContain("2 pictures find their places");
  expect(screen.getByText("the only one of its kind: look at it")).toBeTruthy();
  expect(shown.container.textContent).toContain("Still missing: wall.jpg");
  expect(shown.container.textContent).toContain("Without a place: moss.png");
  expect(screen.getByRole("link", { name: "See it rehearsed" }).getAttribute("href")).toBe(
    "/p/1/b/2/intake/delivery/9",
  );
});

test("first frames are drawn at the levels of detail that are due, when asked", () => {
  const levels = [{ node: "sign", levels: 3, coverage: [0.25] }];
  serve({ [`GET ${BUILD}`]: build });
  // biome-ignore lint/suspicious/noExplicitAny: of a build only what is shown
  const several = { ...build, facts: { levels } } as any;
  render(around({ children: <FirstFrames project={1} build={several} /> }));
  expect(screen.getByAltText("frame of helmets").getAttribute("src")).not.toContain("levels");
  fireEvent.click(screen.getByRole("checkbox", { name: /level of detail/ }));
  expect(screen.getByAltText("frame of helmets").getAttribute("src")).toContain("&levels=true");
});

test("a variant is shown in every first frame, and kept", async () => {
  const dressed = { ...build, facts: { variants: ["wet", "mossy"] } };
  const asked = serve({ [`GET ${BUILD}`]: build, [`POST ${BUILD}/ledger`]: { version: 4 } });
  // biome-ignore lint/suspicious/noExplicitAny: of a build only what is shown
  render(around({ children: <FirstFrames project={1} build={dressed as any} /> }));
  fireEvent.change(screen.getByLabelText("Variant"), { target: { value: "mossy" } });
  expect(screen.getByAltText("frame of helmets").getAttribute("src")).toContain("&variant=mossy");
  fireEvent.click(screen.getByRole("button", { name: "Keep mossy" }));
  expect(await screen.findByText("It is in the ledger.")).toBeTruthy();
  expect(asked.find((a) => a.method === "POST")?.body).toMatchObject({
    change: { operation: { name: "scene.variant", params: { variant: "mossy" } } },
  });
});
