import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";
import type { ChartReport, Leak } from "../../api/client";
import { part } from "../../testing/part";
import { type Colours, type Drawn, densitiesOf, drawPage } from "./draw";
import { ChartIndex, type Page } from "./page";
import { scaleColour } from "./scale";

/** A path and a context that remember what was drawn: the browser's are not there without a browser. */
class Path {
  points: [number, number][] = [];
  moveTo(x: number, y: number) {
    this.points.push([x, y]);
  }
  lineTo(x: number, y: number) {
    this.points.push([x, y]);
  }
  closePath() {}
}
type Call = { name: string; args: unknown[]; fill: string; stroke: string; dash: number[] };

function context(size: number) {
  const calls: Call[] = [];
  const state = {
    fillStyle: "",
    strokeStyle: "",
    dash: [] as number[],
    canvas: { width: size, height: size },
  };
  const c = new Proxy(state as Record<string, unknown>, {
    get(target, name: string) {
      if (name in target) return target[name];
      if (name === "measureText") return (text: string) => ({ width: text.length * 6 });
      return (...args: unknown[]) => {
        if (name === "setLineDash") state.dash = args[0] as number[];
        calls.push({ name, args, fill: state.fillStyle, stroke: state.strokeStyle, dash: state.dash });
      };
    },
  });
  return { c: part<CanvasRenderingContext2D>(c as object), calls };
}

const colours = Object.fromEntries(
  ["paper", "ink", "second", "rule", "primary", "soft", "warm", "bad", "warn", "signal"].map((k) => [k, k]),
) as Colours;

const chart = (over: object = {}) => ({ mirrored: false, skew_deg: 0, texels_per_m: 8, ...over });

/** Two quads as one triangle each: chart 0 on the left half of the page, chart 1 on the right. */
function drawn(over: { page?: Partial<Page>; report?: object; drawn?: Partial<Drawn> } = {}): Drawn {
  const triangles = new Float32Array([0, 0, 0.4, 0, 0, 0.9, 0.6, 0, 1, 0, 0.6, 0.9]);
  return {
    page: {
      triangles,
      chart: new Int32Array([0, 1]),
      density: new Float32Array([4, 12]),
      borders: new Float32Array([0, 0, 0.4, 0, 0.6, 0, 1, 0]),
      borderChart: new Int32Array([0, 1]),
      doubled: new Float32Array(0),
      splits: new Float32Array(0),
      gutterAt: null,
      index: new ChartIndex(triangles),
      ...over.page,
    },
    report: part<ChartReport>({
      resolution: 16,
      page_tiles: 1,
      charts: [chart(), chart()],
      overlap: { surface_share: 0 },
      gutter_texels: null,
      ...over.report,
    }),
    mode: "charts",
    map: null,
    leaks: [],
    densities: [4, 12],
    ...over.drawn,
  };
}

function draw(d: Drawn, view = { size: 200, x: 10, y: 20 }) {
  const { c, calls } = context(240);
  drawPage(c, d, view, colours);
  const of = (name: string) => calls.filter((k) => k.name === name);
  return { calls, of, texts: of("fillText").map((k) => k.args[0]) };
}

beforeEach(() => vi.stubGlobal("Path2D", Path));
afterEach(() => vi.unstubAllGlobals());

describe("charts", () => {
  test("stand where the page has them, mirrored ones in a colour of their own", () => {
    const { of } = draw(drawn({ report: { charts: [chart(), chart({ mirrored: true })] } }));
    const fills = of("fill").map((k) => [k.fill, (k.args[0] as Path).points]);
    expect(fills[0]).toEqual([
      "soft",
      [
        [10, 20],
        [10 + 0.4 * 200, 20].map((v) => expect.closeTo(v, 3)),
        [10, expect.closeTo(20 + 0.9 * 200, 3)],
      ],
    ]);
    expect(fills[1]?.[0]).toBe("warm");
    expect(fills[1]?.[1]).toHaveLength(3);
  });
  test("are labelled with what is wrong with them, what is shared on the first that has room", () => {
    const bad = [chart({ skew_deg: 7.03, mirrored: true }), chart()];
    const page = { doubled: new Float32Array([0.1, 0.1, 0.2, 0.1, 0.1, 0.2, 0.7, 0.1, 0.8, 0.1, 0.7, 0.2]) };
    const d = drawn({ report: { charts: bad, overlap: { surface_share: 0.5 } }, page });
    const { texts, of } = draw(d, { size: 240, x: 0, y: 0 });
    expect(texts).toEqual(["7.0° skew", "mirrored", "shared 50.0\u202f%"]);
    expect(of("clip")).toHaveLength(1); // what is shared is hatched
    d.page.triangles[2] = 0.3; // too narrow for "shared", wide enough for the rest
    expect(
      draw(d, { size: 240, x: 0, y: 0 })
        .of("fillText")
        .map((k) => k.args[1]),
    ).toEqual([4, 4, expect.closeTo(148, 3)]);
  });
  test("that lie skewed have their border in the colour of a warning", () => {
    const { of } = draw(drawn({ report: { charts: [chart({ skew_deg: -7 }), chart({ skew_deg: null })] } }));
    const strokes = of("stroke").filter((k) => k.args[0] instanceof Path);
    const lines = Object.fromEntries(strokes.map((k) => [k.stroke, (k.args[0] as Path).points.length]));
    expect(lines).toEqual({ primary: 2, warn: 2 });
  });
  test("a label that does not fit its chart is left out", () => {
    const { texts } = draw(drawn({ report: { charts: [chart({ mirrored: true }), chart()] } }), {
      size: 60,
      x: 0,
      y: 0,
    });
    expect(texts).toEqual([]);
  });
});

test("density runs over the scale from the thinnest to the densest", () => {
  const { of } = draw(drawn({ drawn: { mode: "density" } }));
  expect(of("fill").map((k) => k.fill)).toEqual([scaleColour(0), scaleColour(1)]);
  const even = draw(drawn({ drawn: { mode: "density", densities: [8, 8] } }));
  expect(even.of("fill").map((k) => k.fill)).toEqual([scaleColour(0.5)]);
});

test("a bake is drawn texel by texel, without the browser smoothing it", () => {
  const image = {} as CanvasImageSource;
  const { c, calls } = context(240);
  drawPage(c, drawn({ drawn: { mode: "bake", map: image } }), { size: 200, x: 10, y: 20 }, colours);
  expect(c.imageSmoothingEnabled).toBe(false);
  expect(calls.find((k) => k.name === "drawImage")?.args).toEqual([image, 10, 20, 200, 200]);
});

test("the grid has a line for each texel where there is room, and powers of two where not", () => {
  const lines = (size: number) => draw(drawn(), { size, x: 0, y: 0 }).of("moveTo").length;
  expect(lines(160)).toBe(2 * 17); // 10 px a texel
  expect(lines(32)).toBe(2 * 3); // 2 px a texel: every eighth
});

test("needless splits are dashed", () => {
  const { of } = draw(drawn({ page: { splits: new Float32Array([0.5, 0, 0.5, 1]) } }));
  const line = of("lineTo").filter((k) => k.stroke === "signal");
  expect(line.map((k) => [k.args, k.dash])).toEqual([
    [
      [110, 220],
      [5, 4],
    ],
  ]);
});

const trouble = { words: "light leaks 1 mm past wall", weight: 75 };

test("leaking texels are framed, however small they are", () => {
  const leak = part<Leak>({
    occluder: "wall",
    texels: [17],
    reach_linear_mm: 1,
    reach_nearest_mm: 1,
    contrast: 2,
    trouble,
  });
  expect(
    draw(drawn({ drawn: { leaks: [leak] } }))
      .of("strokeRect")
      .map((k) => k.args),
  ).toEqual([[10 + 12.5, 20 + 12.5, 12.5, 12.5]]);
  const far = draw(drawn({ drawn: { leaks: [leak] } }), { size: 16, x: 0, y: 0 });
  expect(far.of("strokeRect").map((k) => k.args)).toEqual([[1, 1, 2, 2]]);
});

test("the narrowest gutter is marked with its width", () => {
  const { texts, of } = draw(drawn({ page: { gutterAt: [0.5, 0.25] }, report: { gutter_texels: 3.2 } }));
  expect(texts).toEqual(["gutter 3.2"]);
  expect(of("arc")[0]?.args.slice(0, 2)).toEqual([110, 70]);
});

test("densities of a page are told for the page, not for its tiles", () => {
  const charts = [chart({ texels_per_m: 8 }), chart({ texels_per_m: 32 }), chart({ texels_per_m: 0 })];
  expect(densitiesOf(part<ChartReport>({ charts, page_tiles: 2 }))).toEqual([4, 16]);
  expect(densitiesOf(part<ChartReport>({ charts: [], page_tiles: 1 }))).toEqual([0, 1]);
});
