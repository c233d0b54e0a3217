import { cleanup, fireEvent, render, screen, within } from "@testing-library/react";
import { Route, Routes } from "react-router";
import { afterEach, describe, expect, test, vi } from "vitest";
import { around, serve } from "../../testing";
import { part } from "../../testing/part";
import { TitleBlockRoom } from "../../ui/titleBlock";
import { DrawOrder, nextVisible } from "./DrawOrder";
import type { Walked } from "./queries";
import { orderLink, placeOf, sortedBy, title } from "./words";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const TIMES = [0, 1, 2, 3];
const pop = (t_s: number, over: object = {}) => ({
  first: "cutter",
  second: "mist",
  t_s,
  eye: [-3 + 2 * t_s, 1.6, 0],
  pixels: 17928,
  nit_px: 3764,
  worst: 12.04,
  off_before: 17928,
  off_after: 0,
  turn: "wrong to right",
  ...over,
});
const walked = (over: object = {}) => ({
  move: "walk",
  viewpoint: "left",
  key: "range",
  point: "bounds_centre",
  size: [960, 540],
  looked_at: [480, 270],
  t_s: TIMES,
  eyes: TIMES.map((t) => [-3 + 2 * t, 1.6, 0]),
  forward: TIMES.map(() => [0, 0, -1]),
  lanes: [
    { drawable: "mist", turns: [1, 1, 0, 0], bounds: [-1.5, -4, 1.5, -4] },
    { drawable: "cutter", turns: [0, 0, 1, 1], bounds: [0.75, -3.6, 2.25, -3.6] },
  ],
  pops: [pop(1.3683), pop(2.5, { pixels: 3, turn: "harmless" })],
  looks: [
    { t_s: 0, pairs: [{ early: "cutter", late: "mist", pixels: 900, nit_px: 100, worst: 12 }] },
    { t_s: 3, pairs: [] },
  ],
  lines: [{ first: "cutter", second: "mist", floor: [1.5, 0.4, -0.395], heading_deg: null }],
  flickers: [],
  undrawn: 0,
  wrong: true,
  ...over,
});
const order = (over: object = {}) => ({
  viewpoint: "left",
  method: "sorted",
  key: "range",
  point: "bounds_centre",
  size: [960, 540],
  order: ["cutter", "mist"],
  volumes: [],
  pairs: [{ early: "cutter", late: "mist", pixels: 9000, nit_px: 1900, worst: 12.0 }],
  hidden: [],
  level: [],
  off_px: 9000,
  ...over,
});
const stratum = (drawable: string, place: string, over: object = {}) => ({
  drawable,
  kind: "blended",
  far_m: 4,
  keep: [0.5, 0.5, 0.5],
  lay: [0.4, 0.4, 0.4],
  share: [0.4, 0.4, 0.4],
  true_share: [0.12, 0.12, 0.12],
  place,
  against: place === "in place" ? [] : ["mist"],
  ...over,
});
const STRATA = {
  pixel: [480, 270],
  strata: [stratum("cutter", "too early", { kind: "destination_out" }), stratum("mist", "too late")],
  true: [1, 0],
  opaque: [0.2, 0.2, 0.2],
  drawn: [0.5, 0.5, 0.5],
  due: [0.29, 0.29, 0.29],
  solid_m: 8,
  copied_m: 8,
};

const FLOOR = {
  x0: -3,
  z0: -3,
  cell_m: 0.1,
  height_m: 1.6,
  pairs: [
    {
      first: "mist",
      second: "cutter",
      over_m2: 34.2,
      wrong_m2: 14.6,
      first_drawn_m2: 19.6,
      cells: ["xx.o", "x..o", "...."],
    },
  ],
};

const GLASS = { viewpoint: "left", size: [960, 540], panes: [], layers: 1, lost: [], shut: [] };
const LOST = {
  drawable: "far_pane",
  panes: ["near_pane"],
  how: "in no copy",
  pixels: 900,
  all_pixels: 1200,
  nit_px: 40,
  brighter: 0.085,
};
const link = (name: string, over: object = {}) => ({
  name,
  value: "on",
  need: "on",
  decides: "refract.enabled of project",
  holds: true,
  fix: null,
  change: null,
  ...over,
});
const CHAIN = {
  x: 480,
  y: 270,
  drawable: "near_pane",
  material: "glass",
  links: [
    link("project"),
    link("shader", {
      holds: false,
      value: "sealed lacks the pass",
      need: "the pass",
      fix: "let shader sealed refract",
    }),
  ],
  first_broken: "shader",
  next_broken: null,
  behind: [{ drawable: "bank", kind: "opaque", far_m: 12, in_copy: true }],
  far_m: 2,
  measured: [0, 0, 0],
  whole: [0.9216, 0.9216, 0.9216],
  due: [0.9231, 0.9231, 0.9231],
  solid_m: 85,
  copied_m: 2,
  reads_px: [482, 270],
  bends_px: 1.53,
  true_px: 0.257,
};

const pairSeen = { left_first: "mist", right_first: "cutter", eye: "left", pixels: 912, worst: 12 };
const EYES = {
  viewpoint: "left",
  move: "walk",
  gap_mm: 64,
  eyes: "each",
  pairs: [],
  bands: [
    {
      first: "mist",
      second: "cutter",
      from_s: 1.352,
      to_s: 1.384,
      from_eye: [-0.2953, 1.6, 0],
      to_eye: [-0.2313, 1.6, 0],
      drawn: true,
      seen: pairSeen,
    },
  ],
};
const EDGES = {
  viewpoint: "left",
  materials: [
    {
      material: "vine",
      kind: "cutout",
      things: ["vine"],
      holds: "straight",
      read_as: "straight",
      filtered: "straight",
      steps: {},
      misread_px: 0,
      averaged_px: 420,
      worst_delta_e: 18.3,
      drawn_px: 300,
      due_px: 640,
      levels: [{ level: 3, pixels: 900, drawn: 300, due: 640 }],
      beyond: true,
      at: null,
    },
  ],
};
const COST = {
  viewpoint: "left",
  mean: 2.4,
  deepest: 6,
  idle: 0.47,
  limit: 2,
  by_depth: [0, 1],
  laid: [{ drawable: "spray", mesh: "spray", fragments: 9000, hidden: 10, idle: 4200, trims: 0.47 }],
};
const SHADOWS = {
  viewpoint: "left",
  of_blended: "meant",
  limit_stops: 0.25,
  materials: [{ material: "awning", things: ["awning"], through: "none", stops: 1, pixels: 512, at: null }],
};

function sheet(
  over: { walk?: object; order?: object; moves?: string[]; glass?: object; chain?: object } = {},
) {
  const asked = serve({
    "GET /api/projects/1/builds/1/layers/left/order": order(over.order),
    "GET /api/projects/1/builds/1/layers/left/walk": walked(over.walk),
    "GET /api/projects/1/builds/1/layers/left/strata": STRATA,
    "GET /api/projects/1/builds/1/layers/left/floor": FLOOR,
    "GET /api/projects/1/builds/1/layers/left/glass": { ...GLASS, ...over.glass },
    "GET /api/projects/1/builds/1/layers/left/eyes": EYES,
    "GET /api/projects/1/builds/1/layers/left/edges": EDGES,
    "GET /api/projects/1/builds/1/layers/left/overdraw": COST,
    "GET /api/projects/1/builds/1/layers/left/shadow-through": SHADOWS,
    "GET /api/projects/1/builds/1/layers/left/pass-table": {
      viewpoint: "left",
      consumers: ["colour", "fog"],
      disagreements: 0,
      rows: [
        {
          material: "crate",
          things: ["crate"],
          seen: true,
          cells: [
            { consumer: "colour", status: "writes", because: "drawn", measured: true, disagrees: false },
            {
              consumer: "fog",
              status: "mismatched",
              because: "shaders.hasty.passes.depth",
              measured: false,
              disagrees: false,
            },
          ],
        },
      ],
    },
    "GET /api/projects/1/builds/1/layers/left/chain": { chain: over.chain ?? null },
    "GET /api/projects/1/builds/1/light/left/moves": { own: over.moves ?? ["walk"], stock: ["sway"] },
    "POST /api/projects/1/builds/1/cases": { number: 7 },
    "GET /api/projects/1/builds/1": {
      viewpoints: [{ key: "left" }, { key: "right" }],
      targets: [],
      version: 3,
    },
  });
  render(
    around({
      at: "/p/1/b/1/draw-order",
      children: (
        <TitleBlockRoom>
          <Routes>
            <Route path="/p/:project/b/:build/draw-order" element={<DrawOrder />} />
            <Route path="/p/1/b/1/bench/7" element={<p>case seven</p>} />
          </Routes>
        </TitleBlockRoom>
      ),
    }),
  );
  return asked;
}

describe("along a move", () => {
  test("the largest pop is the headline, its crossing, line and frames either side are shown", async () => {
    sheet();
    expect(
      (await screen.findByRole("heading", { level: 1, name: "mist pops at x = −0.263 m" })).textContent,
    ).toBeTruthy();
    const chart = screen.getByTestId("crossing");
    expect(chart.getAttribute("aria-label")).toBe("Draw order of 2 blended things along walk, one pop");
    expect(within(chart).getByTestId("pop-0")).toBeTruthy();
    expect(screen.getAllByTestId("flip-line").length).toBe(1);
    const prints = screen.getByTestId("prints");
    expect(within(prints).getByText(/^17.928 px off$/)).toBeTruthy();
    expect(within(prints).getByText("✓ in order")).toBeTruthy();
    expect(within(screen.getByTestId("pairs")).getByText("cutter")).toBeTruthy();
  });

  test("keys go along it, to a pixel and to a case", async () => {
    const asked = sheet();
    await screen.findByTestId("crossing");
    expect(screen.getByText("Click into the frame, or press P, to see the layers of a pixel.")).toBeTruthy();
    fireEvent.keyDown(window, { key: "p" });
    await screen.findByTestId("log-drawn");
    fireEvent.keyDown(window, { key: "ArrowRight", shiftKey: true });
    await screen.findByText("490, 270");
    const drawn = within(screen.getByTestId("log-drawn"))
      .getAllByRole("listitem")
      .map((l) => l.textContent);
    const lies = within(screen.getByTestId("log-true"))
      .getAllByRole("listitem")
      .map((l) => l.textContent);
    expect(drawn[0]).toContain("mist");
    expect(lies[0]).toContain("cutter");
    expect(screen.getByText(/too early against mist/)).toBeTruthy();
    expect(screen.getByText("cut-behind")).toBeTruthy();
    fireEvent.keyDown(window, { key: "Escape" });
    fireEvent.keyDown(window, { key: "ArrowDown" });
    await screen.findByRole("heading", { name: /x = 2.000 m: cutter and mist/ });
    fireEvent.keyDown(window, { key: "n" });
    await screen.findByRole("heading", { name: /x = −0.263 m: cutter and mist/ });
    fireEvent.keyDown(window, { key: "Enter" });
    await screen.findByText("case seven");
    const body = asked.find((a) => a.method === "POST")?.body;
    expect(body).toMatchObject({ symptom: "pops", viewpoint: "left" });
  });

  test("the floor is asked on demand and shaded where the pair is drawn the wrong way round", async () => {
    sheet();
    fireEvent.click(await screen.findByRole("button", { name: "Ask every place of the floor" }));
    const shaded = await screen.findByTestId("wrong-floor");
    expect(shaded.querySelectorAll("rect").length).toBe(2);
    expect(screen.getByText(/14.6 of 34.2 m² from which mist and cutter overlap/)).toBeTruthy();
  });

  test("without a move the viewpoint alone is told", async () => {
    sheet({ moves: [] });
    await screen.findByRole("heading", { name: "mist is drawn over cutter, which is nearer, at left" });
    expect(screen.queryByTestId("crossing")).toBeNull();
  });
});

describe("glass", () => {
  const nothing = { moves: [], order: { pairs: [], hidden: [], level: [], order: [], off_px: 0 } };
  test("what is lost behind it is the headline, and its case", async () => {
    const asked = sheet({ ...nothing, glass: { panes: ["near_pane", "far_pane"], lost: [LOST] } });
    await screen.findByRole("heading", { level: 1, name: "far_pane is not seen through near_pane" });
    const row = within(screen.getByTestId("lost")).getAllByRole("row")[1] as HTMLElement;
    expect(row.textContent).toMatch(/near_panein no copy900 of 1.200\+8.5.%/);
    fireEvent.click(screen.getByRole("button", { name: "Open a case" }));
    await screen.findByText("case seven");
    expect(asked.find((a) => a.method === "POST")?.body).toMatchObject({ symptom: "glass vanishes" });
  });

  test("glass that lets nothing through is told with its links, the chain at a pixel", async () => {
    const shut = [
      { material: "glass", things: ["near_pane"], pixels: 800, broken: ["shader"], kept: 0, due: 0.92 },
    ];
    const asked = sheet({ ...nothing, glass: { shut }, chain: CHAIN });
    await screen.findByRole("heading", { level: 1, name: "glass lets no light through: shader" });
    fireEvent.keyDown(window, { key: "p" });
    await screen.findByRole("heading", { name: "near_pane: shader does not hold" });
    const rows = within(screen.getByTestId("chain")).getAllByRole("row");
    expect(rows[1]?.textContent).toContain("holds: project");
    expect(rows[2]?.textContent).toMatch(
      /broken: shader.*needs the pass.*would mend it: let shader sealed refract/,
    );
    expect(screen.getByTestId("chain-keeps").textContent).toContain(
      "real glass 0.923 · reads 1.53 px off, 0.26 px in truth",
    );
    fireEvent.click(screen.getByRole("button", { name: "Open a case" }));
    await screen.findByText("case seven");
    expect(asked.find((a) => a.method === "POST")?.body).toMatchObject({
      symptom: "see-through wrongly",
      spot: [440, 230, 80, 80],
    });
  });
});

test("what each material takes part in is asked on demand", async () => {
  sheet();
  fireEvent.click(await screen.findByRole("button", { name: "Hide each material and see" }));
  const rows = within(await screen.findByTestId("pass-table")).getAllByRole("row");
  expect(rows[1]?.textContent).toBe("crate●writes✗mismatched");
  expect(screen.getByText(/crate, fog: mismatched/).textContent).toContain("shaders.hasty.passes.depth");
});

test("stretches on which the eyes differ are told and drawn", async () => {
  sheet();
  const rows = within(await screen.findByTestId("eyes")).getAllByRole("row");
  expect(rows[1]?.textContent).toBe("mist and cutterx = −0.295 mx = −0.231 m912");
  expect(screen.getByTestId("eye-band").querySelector("title")?.textContent).toContain("mist and cutter");
});

test("edges, coverage, cost and shadows are measured on demand", async () => {
  sheet();
  fireEvent.click(await screen.findByRole("button", { name: "Measure what has alpha" }));
  const rows = within(await screen.findByTestId("edges")).getAllByRole("row");
  expect(rows[1]?.textContent).toMatch(/^vinestraightstraight0.px420.px · ΔE 18.3300 of 640mip 3: 47.%/);
  expect((await screen.findByTestId("overdraw")).textContent).toMatch(
    /2.40 blended layers a pixel, 2 allowed; 6 at the most; 47.% of them change nothing/,
  );
  expect((await screen.findByTestId("shadow-through")).textContent).toMatch(
    /awning throws no shadow: 1.00 stops too bright at the most on 512 px/,
  );
});

describe("words", () => {
  const of = part<Walked>(walked());
  test("a turn has a heading, a way an axis", () => {
    const turning = {
      ...of,
      eyes: TIMES.map(() => [0, 1.6, 0]),
      forward: TIMES.map(() => [0.2576, 0, -0.9662]),
    } as Walked;
    expect(placeOf(turning, turning.pops[0] as Walked["pops"][number])).toBe("a heading of 14.93°");
    expect(placeOf(of, of.pops[0] as Walked["pops"][number])).toBe("x = −0.263 m");
  });
  test("what is in order is said, and faces of one mesh", () => {
    const clean = part<Walked>({ ...of, pops: [], looks: [] });
    expect(title(order({ pairs: [] }) as never, clean)).toBe("Nothing pops along walk");
    expect(title(order({ pairs: [] }) as never, undefined)).toBe("left is drawn in its true order");
    expect(title(order({ pairs: [], order: [] }) as never, undefined)).toBe(
      "Nothing blended is in sight at left",
    );
    const tank = { early: "tank", late: "tank", pixels: 90, nit_px: 1, worst: 9 };
    expect(title(order({ pairs: [tank] }) as never, clean)).toBe(
      "Faces of tank are drawn in the wrong order at left",
    );
  });
  test("what is put together without an order is said to be", () => {
    const averaged = order({ method: "weighted", pairs: [], off_px: 40 }) as never;
    expect(title(averaged, undefined)).toBe("Layers put together as weighted are off at left");
    expect(sortedBy(averaged)).toBe("put together as weighted, without an order");
    const own = { ...GLASS, lost: [{ ...LOST, panes: ["far_pane"] }] };
    expect(title(order({ pairs: [] }) as never, undefined, own as never)).toBe(
      "The far side of far_pane is not seen through its near side",
    );
  });
  test("what is hidden by depth that something wrote is said to be", () => {
    const hidden = [{ writer: "sheet", hidden: ["banner"], pixels: 900, nit_px: 40 }];
    expect(title(order({ pairs: [], hidden }) as never, undefined)).toBe(
      "sheet hides banner by its depth at left",
    );
  });
  test("a cutout that what stands behind it shows over is said to be, and what lies at one depth is no headline", () => {
    const two = { first: "barge", second: "buoy", stages: true, pixels: 90 };
    expect(title(order({ pairs: [], level: [two] }) as never, undefined)).toBe(
      "buoy shows over barge, which stands before it, at left",
    );
    expect(title(order({ pairs: [], level: [{ ...two, stages: false }] }) as never, undefined)).toBe(
      "left is drawn in its true order",
    );
  });
  test("mist that is drawn as one thing is said to be", () => {
    const of = order({ volumes: ["mist"] }) as never;
    expect(title(of, undefined)).toBe("mist is drawn as one thing, wrongly for cutter, at left");
  });
  test("a rim is the headline where nothing else is off", () => {
    const clean = order({ pairs: [] }) as never;
    const rim = part<NonNullable<Parameters<typeof title>[3]>>({ material: "vine", misread_px: 0 });
    expect(title(clean, undefined, undefined, rim)).toBe("vine shows a rim at left");
    expect(title(clean, undefined, undefined, { ...rim, misread_px: 40 })).toBe(
      "Colours of vine are taken for what they are not",
    );
    const finding = part<Parameters<typeof orderLink>[2]>({ code: "blend.fringe", pixels: { left: 4 } });
    expect(orderLink(1, 2, finding)).toBe("/p/1/b/2/draw-order?from=left&measure=1");
  });
  test("the next pop that one sees", () => {
    const turns = ["harmless", "wrong to right", "harmless", "right to wrong"].map((turn) => ({ turn }));
    expect([nextVisible(turns, 0), nextVisible(turns, 1), nextVisible(turns, 3), nextVisible([], 0)]).toEqual(
      [1, 3, 1, 0],
    );
  });
});
