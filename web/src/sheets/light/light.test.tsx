import { cleanup, fireEvent, render, screen, within } from "@testing-library/react";
import { Route, Routes } from "react-router";
import { afterEach, describe, expect, test, vi } from "vitest";
import { type Asked, around, serve } from "../../testing";
import { part } from "../../testing/part";
import { TitleBlockRoom } from "../../ui/titleBlock";
import { Answers } from "./Answers";
import { Dials } from "./Dials";
import { Held } from "./Held";
import { LightAndColour } from "./LightAndColour";
import type { Account } from "./queries";
import { Reflections } from "./Reflections";
import { Roles } from "./Roles";
import { WhereLight } from "./WhereLight";
import { noiseWords, stops, title, told } from "./words";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const LOOK = { project: 1, build: 1, viewpoint: "hall", target: null, state: "head", stamp: "1" } as const;
const NOTHING_HELD = {
  viewpoint: "hall",
  width_px: 1920,
  height_px: 1080,
  targets: [],
  bytes: 0,
  limit_mib: 0,
  over: false,
};

const row = (name: string, luminance: number, over: object = {}) => ({
  part: name,
  means: "what it is",
  nits: [luminance, luminance, luminance],
  luminance,
  stops: luminance / 10,
  error: 0.01,
  shown: true,
  ...over,
});
const account = (samples: number, over: object = {}) => ({
  viewpoint: "hall",
  size: [240, 135],
  crop: null,
  region: null,
  pixels: 32400,
  bounces: 8,
  standin: 46.8,
  reference: 54.8,
  stops: -0.23,
  error: 0.04,
  floor_stops: 0.02,
  rows: [
    row("shadow", 0.2, { shown: false }),
    row("bounce", -6.1, { stops: -0.18 }),
    row("reflection", -1.9, { stops: -0.06 }),
  ],
  lights: [
    { light: "lamp_1", standin: 0, reference: 9.9 },
    { light: "lamp_2", standin: 0, reference: 0 },
  ],
  noise: {
    value: 0.4 / Math.sqrt(samples),
    samples,
    slope: -0.5,
    bright_share: 0.02,
    edges: 0,
    pixels: 32400,
    refused: samples < 8 ? "too few samples to tell" : "",
    at_2_percent: samples < 8 ? null : 400,
    curve: [2, 4, 8, 16, 32, 64]
      .filter((n) => n <= samples)
      .map((n) => ({ samples: n, noise: 0.4 / n ** 0.5 })),
  },
  ...over,
});
const build = {
  viewpoints: [{ key: "hall" }, { key: "tunnel" }],
  targets: ["kiosk"],
  version: 3,
};

function sheet(at = "/p/1/b/1/light", over: (samples: number) => object = () => ({})) {
  const grows = (asked: Asked) => {
    const query = new URLSearchParams(asked.path.split("?")[1]);
    const samples = Number(query.get("samples"));
    const region = query.get("region")?.split(",").map(Number) ?? null;
    const viewpoint = asked.path.includes("/tunnel/") ? "tunnel" : "hall";
    return account(samples, { viewpoint, region, ...over(samples) });
  };
  const asked = serve({
    "GET /api/projects/1/builds/1/light/hall/targets": NOTHING_HELD,
    "GET /api/projects/1/builds/1/light/tunnel/targets": NOTHING_HELD,
    "GET /api/projects/1/builds/1/light/": grows,
    "GET /api/projects/1/builds/1": build,
  });
  render(
    around({
      at,
      children: (
        <TitleBlockRoom>
          <Routes>
            <Route path="/p/:project/b/:build/light" element={<LightAndColour />} />
          </Routes>
        </TitleBlockRoom>
      ),
    }),
  );
  return asked;
}
const PATIENT = { timeout: 15_000 }; // several answers follow one another
const samplesOf = (asked: Asked[]) =>
  asked.filter((a) => a.path.includes("/account")).map((a) => Number(/samples=(\d+)/.exec(a.path)?.[1]));

describe("words", () => {
  test("the title says how far it is off and in what", () => {
    expect(title(part<Account>(account(8)) as Account)).toBe(
      "hall is 0.23 stops too dark, most of it in bounce",
    );
    const calm = account(8, { rows: [row("bounce", -0.1, { shown: false })] });
    expect(title(part<Account>(calm) as Account)).toBe("hall shows the light that is due");
    const evened = account(8, { stops: 0.01, region: [1, 2, 3, 4] });
    expect(title(part<Account>(evened) as Account)).toBe(
      "A part of hall is as bright as is due, but not by its bounce",
    );
  });
  test("rows beyond noise, the largest first; stops with a sign", () => {
    expect(told(part<Account>(account(8)) as Account).map((r) => r.part)).toEqual(["bounce", "reflection"]);
    expect([stops(-0.5), stops(1), stops(null)]).toEqual(["−0.50 stops", "+1.00 stops", "all of it"]);
  });
  test("a forecast says that it is one, and why there is none", () => {
    expect(noiseWords(part<Account>(account(16)) as Account)).toBe(
      "noise 10 % at 16 samples · 2 % take 400 [prediction]",
    );
    expect(noiseWords(part<Account>(account(4)) as Account)).toContain("too few samples to tell");
  });
});

describe("sheet", () => {
  test("samples grow by themselves, sixteen at a time at the most", async () => {
    const asked = sheet();
    await screen.findByText(/at 64 samples/, {}, PATIENT);
    expect(samplesOf(asked)).toEqual([4, 8, 16, 32, 48, 64]);
    expect(screen.getByRole("button", { name: "Four times the samples" })).toBeTruthy();
  }, 20_000);
  test("they end where noise is small", async () => {
    const asked = sheet(undefined, (n) => ({
      noise: { ...account(n).noise, value: n >= 8 ? 0.015 : 0.1 },
    }));
    await screen.findByText(/noise 1.5 % at 8 samples/, {}, PATIENT);
    expect(samplesOf(asked)).toEqual([4, 8]);
  }, 20_000);
  test("the account is a table, with what is too little told apart", async () => {
    sheet();
    const table = within(await screen.findByTestId("account"));
    const rows = table.getAllByRole("row").map((r) => r.textContent);
    expect(rows[1]).toContain("too little");
    expect(rows[2]).toContain("−6.1 nit");
    expect(within(screen.getByTestId("lights")).getAllByRole("row")).toHaveLength(2);
    expect(screen.getByText("in lightmaps")).toBeTruthy();
  });
  test("a region is asked for by itself, and Escape takes the whole again", async () => {
    const asked = sheet("/p/1/b/1/light?region=10,20,30,40");
    await screen.findByText(/A part of hall/);
    expect(asked.some((a) => a.path.includes("region=10%2C20%2C30%2C40"))).toBe(true);
    fireEvent.keyDown(window, { key: "Escape" });
    await screen.findByText(/^hall is/);
    expect(screen.queryByTestId("region")).toBeNull();
  });
  test("arrows move the wipe, the full stop takes the next viewpoint", async () => {
    sheet();
    const wipe = await screen.findByRole("slider", { name: "wipe" });
    expect(wipe.getAttribute("aria-valuenow")).toBe("50");
    fireEvent.keyDown(window, { key: "ArrowRight" });
    expect(wipe.getAttribute("aria-valuenow")).toBe("52");
    fireEvent.keyDown(window, { key: "." });
    await screen.findByText(/^tunnel is/);
  });
  test("what is off is one picture with a legend in words", async () => {
    sheet();
    fireEvent.click(await screen.findByRole("button", { name: "Show what is off" }));
    expect(
      screen.getByRole("img", { name: /too dark hatched, too bright dotted/ }).getAttribute("src"),
    ).toContain("shown=off");
    expect(screen.getByText(/full at 2 stops/)).toBeTruthy();
  });
});

const WHERE = {
  viewpoint: "hall",
  places: 512,
  samples: 32,
  due: 209,
  from_others: 169,
  classes: [
    { where: "sky", share: 0.5, bounce: 0, reflection: 0 },
    { where: "behind the camera", share: 0.2, bounce: 80, reflection: 0 },
    { where: "hidden", share: 0.1, bounce: 22, reflection: 0 },
    { where: "on the frame", share: 0.2, bounce: 60, reflection: 7 },
  ],
  sources: [{ drawable: "wall", where: "behind the camera", nits: 80 }],
  hidden_by: [{ drawable: "screen", nits: 22 }],
  margin: [],
  in_lightmaps: 12,
  answers: [
    {
      name: "bounce",
      fallback: "nothing",
      classes: [
        { where: "behind the camera", found: 0, wrong_hit: 0, missed: 80, fell_back: 0, not_asked: 0 },
        { where: "hidden", found: 0, wrong_hit: 2, missed: 20, fell_back: 0, not_asked: 0 },
        { where: "on the frame", found: 51, wrong_hit: 0, missed: 9, fell_back: 0, not_asked: 7 },
      ],
    },
  ],
  ceilings: [
    { remedy: "dials of a pass", nits: 67, stops: -0.96, why: "on the frame" },
    { remedy: "a bake", nits: 169, stops: 0, why: "wherever" },
  ],
};

describe("what passes hold", () => {
  const one = {
    pass_name: "reflect",
    target: "hit_depth",
    texel_bytes: 4,
    divisor: 2,
    mips: false,
    margin_px: 16,
  };
  const held = { viewpoint: "hall", width_px: 1920, height_px: 1080, limit_mib: 1, over: true };

  test("is told target by target, beside the limit", async () => {
    const targets = [{ ...one, bytes: 3 * 1024 * 1024 }];
    serve({
      "GET /api/projects/1/builds/1/light/hall/targets": { ...held, targets, bytes: 3 * 1024 * 1024 },
    });
    render(around({ children: <Held look={LOOK} /> }));
    const row = within(await screen.findByTestId("held")).getAllByRole("row")[1];
    expect(row?.textContent).toContain("reflect: hit depth, margin 16 px");
    expect(row?.textContent).toContain("4 B / 2 × 2 px");
    expect(screen.getByText(/3.MiB at 1920 × 1080 px · over the limit of 1.MiB/)).toBeTruthy();
  });

  test("nothing is shown while they are off", async () => {
    serve({ "GET /api/projects/1/builds/1/light/hall/targets": NOTHING_HELD });
    const { container } = render(around({ children: <Held look={LOOK} /> }));
    await new Promise((done) => setTimeout(done, 50));
    expect(container.textContent).toBe("");
  });
});

describe("where the light is", () => {
  test("is asked for once, from what every pass finds to what none can, with the most of each remedy", async () => {
    serve({ "GET /api/projects/1/builds/1/light/hall/where": WHERE });
    render(around({ children: <WhereLight look={LOOK} region={null} /> }));
    fireEvent.click(screen.getByRole("button", { name: "Follow it from the frame" }));
    const rows = within(await screen.findByTestId("where-light"))
      .getAllByRole("row")
      .slice(1);
    expect(rows.map((r) => r.textContent)).toEqual([
      expect.stringContaining("on the frame67 nit"),
      expect.stringContaining("hidden, by screen22 nit"),
      expect.stringContaining("behind the camera80 nit"),
    ]);
    expect(screen.getByText("Most of wall, behind the camera.")).toBeTruthy();
    expect(screen.getByText(/209 nit that are due, 12 nit of it already in lightmaps/)).toBeTruthy();
    const bounce = within(screen.getByTestId("answer-bounce"));
    expect(bounce.getByText(/Bounce finds 31/)).toBeTruthy();
    expect(bounce.getAllByRole("row").map((r) => r.textContent)).toContain("hidden0 nit2 nit20 nit");
    expect(within(screen.getByTestId("ceilings")).getByText("−0.96 stops")).toBeTruthy();
  });
});

const gate = {
  material: "raw_casting",
  shader: "raw_cast",
  furnace: 0.129,
  ambient: 0,
  answer: 0,
  sun: 0.041,
  usual: 0.9,
  verdict: "broken",
  maps: [],
  in_place: [
    {
      drawable: "gate_leaf",
      viewpoint: "hall",
      places: 48,
      drawn: 0,
      due: 3.32,
      answer: 0,
      tried: [
        { what: "its base shader does not answer", title: "raw_cast answers", answer: 0.93 },
        { what: "no light is given to it", title: "light from the sky", answer: 0 },
      ],
      causes: [{ what: ["its base shader does not answer"], titles: ["raw_cast answers"], answer: 0.93 }],
    },
  ],
};
const plaster = {
  ...gate,
  material: "plaster",
  shader: "stock_opaque",
  answer: 1,
  verdict: "answers",
  in_place: [],
};

describe("answers", () => {
  test("what does not answer says why, and another base shader is rehearsed", async () => {
    const asked = serve({
      "GET /api/projects/1/builds/1/light/hall/response": [gate, plaster],
      "GET /api/projects/1/builds/1/light/hall/swap": {
        material: "raw_casting",
        before: "raw_cast",
        after: "stock_opaque",
        transfers: [
          { role: "base", bound: "raw_casting", fate: "kept", default: null },
          { role: "normal", bound: "grain", fate: "no place", default: "blank" },
        ],
        kept: 1,
        answer_before: 0,
        answer_after: 1,
        sun_delta_e: 0.02,
        default_px: 1200,
        seen: [],
        change: {},
      },
    });
    render(around({ children: <Answers look={LOOK} /> }));
    expect(asked).toHaveLength(0);
    fireEvent.click(screen.getByRole("button", { name: "Ask what is seen" }));
    const rows = within(await screen.findByTestId("answers")).getAllByRole("row");
    expect(rows[1]?.textContent).toContain("◆ broken");
    const rivals = within(screen.getByTestId("rivals")).getAllByRole("row");
    expect(rivals.slice(1).map((r) => r.textContent?.startsWith("✓"))).toEqual([true, false]);
    fireEvent.click(screen.getByRole("button", { name: "Rehearse the swap" }));
    expect((await screen.findByTestId("swap")).textContent).toContain(
      "a default picture shows on 1 200 px".replace(" 200", "\u202f200"),
    );
    expect(within(screen.getByTestId("transfers")).getByText("no place, blank shows")).toBeTruthy();
    expect(asked.at(-1)?.path).toContain("to=stock_opaque");
  });
});

describe("roles", () => {
  test("each differing setting says who set it, what it does alone, or that it does nothing here", async () => {
    const effect = (n: number, share: number) => ({ stops: n, share });
    const asked = serve({
      "GET /api/projects/1/builds/1/light/hall/roles": {
        viewpoint: "hall",
        first: "edit",
        second: "play",
        whole: effect(1, 0.9),
        leaves: [
          {
            leaf: "exposure.ev100",
            first: 5,
            first_winner: "role edit",
            second: 6,
            second_winner: "project",
            alone: effect(1, 0.9),
            rest: effect(0, 0),
            says: "",
          },
          {
            leaf: "shadow.resolution",
            first: 512,
            first_winner: "role edit",
            second: 1024,
            second_winner: "default",
            alone: effect(0, 0),
            rest: effect(1, 0.9),
            says: "nothing here",
          },
        ],
        roles: ["edit", "play", "night"],
      },
    });
    render(around({ children: <Roles look={LOOK} region={null} /> }));
    fireEvent.change(screen.getByRole("combobox", { name: "Against role" }), { target: { value: "edit" } });
    expect((screen.getByRole("button", { name: "Hold side by side" }) as HTMLButtonElement).disabled).toBe(
      true,
    );
    fireEvent.change(screen.getByRole("combobox", { name: "Against role" }), { target: { value: "play" } });
    fireEvent.click(screen.getByRole("button", { name: "Hold side by side" }));
    const rows = within(await screen.findByTestId("roles")).getAllByRole("row");
    expect(rows[1]?.textContent).toContain("5role edit6project+1.00 stops");
    expect(rows[2]?.textContent).toContain("nothing here");
    expect(screen.getAllByRole("option", { name: "night" })).toHaveLength(2);
    expect(asked).toHaveLength(1);
  });
});

const seen = {
  viewpoint: "hall",
  pixels: 0.46,
  surfaces: ["floor"],
  parallax_px: 31.4,
  parallax_px_most: 96.2,
  worst: [1, 2],
  wrong: 0.4,
  parallax_stops: 0.7,
  unseen: 0,
  leak_stops: 0,
  leaks_onto: [],
  texel_px: 6.4,
  seam_stops: 0,
  seam_with: "",
  faults: ["reflect.probe"],
};
const probe = {
  name: "hall",
  on: true,
  place_m: [0, 1.5, 3],
  low_m: [-4, 0, 0],
  high_m: [4, 3, 6],
  boxed: false,
  blend_m: 0,
  sees: false,
  size: 128,
  bytes: 174760,
  fits: [{ light_set: null, missing: false, why: ["panel changed"] }],
  seen: [seen],
};

describe("probes and mirrors", () => {
  test("are told with what is wrong with them", async () => {
    serve({
      "GET /api/projects/1/builds/1/light/hall/probes": {
        probes: [probe, { ...probe, name: "lobby", fits: [], seen: [] }],
        mirrors: [
          {
            name: "brass",
            on: true,
            node: "panel",
            divisor: 1,
            seen: [
              {
                viewpoint: "hall",
                pixels: 12000,
                left_out: [{ shader: "plain", things: ["gauge_glass"], share: 0.04 }],
              },
            ],
          },
        ],
        grids: [],
        movers: [
          {
            viewpoint: "hall",
            drawable: "crate",
            pixels: 900,
            grids: [],
            uncovered: 1,
            drawn: 0,
            due: 3.2,
            off_stops: -20,
            unseen: 0,
            leak_stops: 0,
            seam_stops: 0,
            neighbour: "",
            faults: ["grid.uncovered"],
          },
        ],
        views: [{ viewpoint: "hall", eye: [0, 1.6, 3], forward: [0, 0, -1] }],
      },
    });
    render(around({ children: <Reflections look={LOOK} /> }));
    fireEvent.click(screen.getByRole("button", { name: "Hold them against what is there" }));
    const rows = within(await screen.findByTestId("probes")).getAllByRole("row");
    expect(rows[1]?.textContent).toContain("◆ stale, shows things elsewhere");
    expect(rows[1]?.textContent).toContain("31.4 / 96.2");
    expect(rows[2]?.textContent).toContain("✓ fits");
    expect(screen.getByTestId("probe-plan").getAttribute("aria-label")).toBe(
      "Plan of probe hall: stale, shows things elsewhere; probe lobby: fits",
    );
    expect(within(screen.getByTestId("mirrors")).getByText(/gauge_glass/)).toBeTruthy();
    expect(within(screen.getByTestId("movers")).getByText("◆ no light grid holds it")).toBeTruthy();
  });

  test("where there are none, that is said", async () => {
    serve({
      "GET /api/projects/1/builds/1/light/hall/probes": {
        probes: [],
        mirrors: [],
        grids: [],
        movers: [],
        views: [],
      },
    });
    render(around({ children: <Reflections look={LOOK} /> }));
    fireEvent.click(screen.getByRole("button", { name: "Hold them against what is there" }));
    expect(await screen.findByText(/^There are none/)).toBeTruthy();
  });
});

describe("dials", () => {
  const price = { nits: 2, off: 1.5, noise: 0.2, steps: 1e6, rays: 0, bytes: 2 ** 20, ms: 10 };
  test("what each buys stands beside what it costs, most first", async () => {
    const turned = (leaf: string, nearer: number, ms: number) => ({
      pass_name: "bounce",
      leaf,
      old: 4,
      new: 8,
      nearer,
      price: { ...price, bytes: 3 * 2 ** 20, ms },
    });
    serve({
      "GET /api/projects/1/builds/1/light/hall/dials": {
        viewpoint: "hall",
        due: 3,
        now: [{ name: "bounce", price }],
        dials: [turned("rays", 0, 19), turned("steps", 0.25, 20)],
      },
    });
    render(around({ children: <Dials look={LOOK} /> }));
    fireEvent.click(screen.getByRole("button", { name: "Turn each by itself" }));
    const rows = within(await screen.findByTestId("dials-bounce")).getAllByRole("row");
    expect(rows.slice(1).map((r) => r.textContent)).toEqual([
      "steps 4 → 8+0.25 nit20 %+2×2.0",
      "rays 4 → 80 nit20 %+2×1.9",
    ]);
  });

  test("where neither pass is on, that is said", async () => {
    serve({
      "GET /api/projects/1/builds/1/light/hall/dials": { viewpoint: "hall", due: 3, now: [], dials: [] },
    });
    render(around({ children: <Dials look={LOOK} /> }));
    fireEvent.click(screen.getByRole("button", { name: "Turn each by itself" }));
    expect(await screen.findByText("Neither bounce nor reflection is on.")).toBeTruthy();
  });
});
