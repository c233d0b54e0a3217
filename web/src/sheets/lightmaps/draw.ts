import type { ChartReport, Leak } from "../../api/client";
import { percent } from "../../ui/words";
import type { Page } from "./page";
import { scaleColour } from "./scale";

export type View = { size: number; x: number; y: number };
export type Mode = "charts" | "bake" | "density";
export type Drawn = {
  page: Page;
  report: ChartReport;
  mode: Mode;
  map: CanvasImageSource | null;
  leaks: Leak[];
  densities: [number, number];
};
export type Colours = Record<
  "paper" | "ink" | "second" | "rule" | "primary" | "soft" | "warm" | "bad" | "warn" | "signal",
  string
>;

export function coloursOf(element: HTMLElement): Colours {
  const style = getComputedStyle(element);
  const of = (name: string) => style.getPropertyValue(`--color-${name}`).trim();
  const mix = (name: string, share: number) =>
    `color-mix(in oklab, ${of(name)} ${share}%, ${of("base-100")})`;
  return {
    paper: of("base-100"),
    ink: of("base-content"),
    second: of("secondary"),
    rule: of("base-300"),
    primary: of("primary"),
    soft: mix("primary", 17),
    warm: mix("warning", 20),
    bad: of("error"),
    warn: of("warning"),
    signal: of("accent"),
  };
}

const BINS = 48;

/** Draw a page with its top left corner at (view.x, view.y), view.size pixels wide. */
export function drawPage(c: CanvasRenderingContext2D, d: Drawn, view: View, colours: Colours): void {
  const { width, height } = c.canvas;
  c.setTransform(1, 0, 0, 1, 0, 0);
  c.fillStyle = colours.paper;
  c.fillRect(0, 0, width, height);
  const place = (u: number, v: number): [number, number] => [view.x + u * view.size, view.y + v * view.size];
  if (d.mode === "bake" && d.map) {
    c.imageSmoothingEnabled = false;
    c.drawImage(d.map, view.x, view.y, view.size, view.size);
  }
  if (d.mode === "density") fillByDensity(c, d, place);
  else if (d.mode === "charts") fillByChart(c, d, place, colours);
  if (d.mode !== "bake" || view.size / d.report.resolution >= 12)
    grid(c, d.report.resolution, view, colours.second);
  strokeBorders(c, d, place, colours);
  if (d.mode !== "density") hatch(c, d.page.doubled, place, colours.bad, view);
  splits(c, d.page.splits, place, colours.signal);
  leaks(c, d, view, colours.signal);
  if (d.mode === "charts") labels(c, d, view, colours);
}

type Place = (u: number, v: number) => [number, number];

function triangle(path: Path2D, a: Float32Array, t: number, place: Place): void {
  const i = t * 6;
  path.moveTo(...place(a[i] as number, a[i + 1] as number));
  path.lineTo(...place(a[i + 2] as number, a[i + 3] as number));
  path.lineTo(...place(a[i + 4] as number, a[i + 5] as number));
  path.closePath();
}

function grid(c: CanvasRenderingContext2D, edge: number, view: View, colour: string): void {
  const texel = view.size / edge;
  const step = texel >= 5 ? 1 : 2 ** Math.ceil(Math.log2(5 / texel) + 1);
  const [x0, y0] = [Math.max(view.x, 0), Math.max(view.y, 0)];
  const [x1, y1] = [
    Math.min(view.x + view.size, c.canvas.width),
    Math.min(view.y + view.size, c.canvas.height),
  ];
  c.beginPath();
  for (let k = 0; k <= edge; k += step) {
    const [x, y] = [Math.round(view.x + k * texel) + 0.5, Math.round(view.y + k * texel) + 0.5];
    if (x >= x0 - 1 && x <= x1 + 1) {
      c.moveTo(x, y0);
      c.lineTo(x, y1);
    }
    if (y >= y0 - 1 && y <= y1 + 1) {
      c.moveTo(x0, y);
      c.lineTo(x1, y);
    }
  }
  c.strokeStyle = colour;
  c.globalAlpha = step === 1 ? 0.28 : 0.2;
  c.lineWidth = 1;
  c.stroke();
  c.globalAlpha = 1;
}

function fillByChart(c: CanvasRenderingContext2D, d: Drawn, place: Place, colours: Colours): void {
  const fill = { plain: new Path2D(), turned: new Path2D() };
  for (let t = 0; t < d.page.chart.length; t++) {
    const chart = d.report.charts[d.page.chart[t] as number];
    triangle(chart?.mirrored ? fill.turned : fill.plain, d.page.triangles, t, place);
  }
  c.globalAlpha = 0.9;
  c.fillStyle = colours.soft;
  c.fill(fill.plain);
  c.fillStyle = colours.warm;
  c.fill(fill.turned);
  c.globalAlpha = 1;
}

function fillByDensity(c: CanvasRenderingContext2D, d: Drawn, place: Place): void {
  const [low, high] = d.densities;
  const paths = new Map<number, Path2D>();
  for (let t = 0; t < d.page.chart.length; t++) {
    const share = high > low ? ((d.page.density[t] as number) - low) / (high - low) : 0.5;
    const bin = Math.round(Math.min(Math.max(share, 0), 1) * BINS);
    let path = paths.get(bin);
    if (!path) {
      path = new Path2D();
      paths.set(bin, path);
    }
    triangle(path, d.page.triangles, t, place);
  }
  for (const [bin, path] of paths) {
    c.fillStyle = scaleColour(bin / BINS);
    c.fill(path);
  }
}

function strokeBorders(c: CanvasRenderingContext2D, d: Drawn, place: Place, colours: Colours): void {
  const plain = new Path2D();
  const skewed = new Path2D();
  const b = d.page.borders;
  for (let e = 0; e * 4 < b.length; e++) {
    const skew = d.report.charts[d.page.borderChart[e] as number]?.skew_deg ?? 0;
    const path = Math.abs(skew) > 1 ? skewed : plain;
    path.moveTo(...place(b[e * 4] as number, b[e * 4 + 1] as number));
    path.lineTo(...place(b[e * 4 + 2] as number, b[e * 4 + 3] as number));
  }
  if (d.mode === "bake") {
    c.globalAlpha = 0.9;
    c.lineWidth = 2.4;
    c.strokeStyle = "#fff";
    c.stroke(plain);
    c.stroke(skewed);
    c.globalAlpha = 1;
  }
  c.lineWidth = 1.2;
  c.strokeStyle = d.mode === "density" ? colours.ink : colours.primary;
  c.stroke(plain);
  c.lineWidth = 1.6;
  c.strokeStyle = colours.warn;
  c.stroke(skewed);
}

/** Slanted lines over what two charts share, drawn in page space so that they stay while the page is moved. */
function hatch(
  c: CanvasRenderingContext2D,
  doubled: Float32Array,
  place: Place,
  colour: string,
  view: View,
): void {
  if (!doubled.length) return;
  const area = new Path2D();
  for (let t = 0; t * 6 < doubled.length; t++) triangle(area, doubled, t, place);
  c.save();
  c.clip(area);
  c.fillStyle = colour;
  c.globalAlpha = 0.12;
  c.fillRect(0, 0, c.canvas.width, c.canvas.height);
  c.globalAlpha = 0.75;
  c.strokeStyle = colour;
  c.lineWidth = 2.4;
  c.beginPath();
  const { width, height } = c.canvas;
  const start = (((view.x + view.y) % 8) + 8) % 8;
  for (let k = start - 8; k < width + height + 8; k += 8) {
    c.moveTo(k, -1);
    c.lineTo(k - height - 2, height + 1);
  }
  c.stroke();
  c.restore();
}

function splits(c: CanvasRenderingContext2D, lines: Float32Array, place: Place, colour: string): void {
  c.setLineDash([5, 4]);
  c.strokeStyle = colour;
  c.lineWidth = 2.4;
  c.beginPath();
  for (let k = 0; k * 4 < lines.length; k++) {
    c.moveTo(...place(lines[k * 4] as number, lines[k * 4 + 1] as number));
    c.lineTo(...place(lines[k * 4 + 2] as number, lines[k * 4 + 3] as number));
  }
  c.stroke();
  c.setLineDash([]);
}

function leaks(c: CanvasRenderingContext2D, d: Drawn, view: View, colour: string): void {
  const edge = d.report.resolution;
  const texel = view.size / edge;
  c.strokeStyle = colour;
  c.lineWidth = 1.4;
  for (const leak of d.leaks)
    for (const n of leak.texels)
      c.strokeRect(
        view.x + (n % edge) * texel,
        view.y + Math.floor(n / edge) * texel,
        Math.max(texel, 2),
        Math.max(texel, 2),
      );
}

function labels(c: CanvasRenderingContext2D, d: Drawn, view: View, colours: Colours): void {
  c.font = '11px "JetBrains Mono Variable", monospace';
  c.textBaseline = "top";
  const boxes = chartBoxes(d);
  const shared = d.report.overlap.surface_share;
  let said = shared === 0;
  d.report.charts.forEach((chart, k) => {
    const box = boxes[k];
    if (!box) return;
    const [x, y] = [view.x + box[0] * view.size + 4, view.y + box[1] * view.size + 4];
    const room = (box[2] - box[0]) * view.size - 8;
    const words: [string, string][] = [];
    if (chart.skew_deg !== null && Math.abs(chart.skew_deg) > 1)
      words.push([`${chart.skew_deg.toFixed(1)}° skew`, colours.warn]);
    if (chart.mirrored) words.push(["mirrored", colours.second]);
    const share = said || !covers(d.page.doubled, box) ? "" : `shared ${percent(shared, 1)}`;
    if (share) words.push([share, colours.bad]);
    words.forEach(([text, colour], i) => {
      const width = c.measureText(text).width;
      if (width > room + 6) return; // told on a later chart, if it is told once for all
      said ||= text === share;
      c.fillStyle = colours.paper;
      c.globalAlpha = 0.85;
      c.fillRect(x - 2, y + i * 14 - 1, width + 4, 14);
      c.globalAlpha = 1;
      c.fillStyle = colour;
      c.fillText(text, x, y + i * 14);
    });
  });
  const at = d.page.gutterAt;
  if (at && d.report.gutter_texels !== null) {
    const [x, y] = [view.x + at[0] * view.size, view.y + at[1] * view.size];
    c.strokeStyle = colours.ink;
    c.lineWidth = 1;
    c.beginPath();
    c.arc(x, y, 5, 0, 2 * Math.PI);
    c.stroke();
    const text = `gutter ${d.report.gutter_texels.toFixed(1)}`;
    const width = c.measureText(text).width;
    const left = Math.min(x + 8, c.canvas.width - width - 4);
    c.fillStyle = colours.paper;
    c.globalAlpha = 0.85;
    c.fillRect(left - 2, y - 6, width + 4, 14);
    c.globalAlpha = 1;
    c.fillStyle = colours.ink;
    c.fillText(text, left, y - 5);
  }
}

type Box = [number, number, number, number];

function chartBoxes(d: Drawn): Box[] {
  const boxes: Box[] = [];
  const a = d.page.triangles;
  for (let t = 0; t < d.page.chart.length; t++) {
    const k = d.page.chart[t] as number;
    boxes[k] ??= [Infinity, Infinity, -Infinity, -Infinity];
    const box = boxes[k] as Box;
    for (let i = t * 6; i < t * 6 + 6; i += 2) {
      box[0] = Math.min(box[0], a[i] as number);
      box[1] = Math.min(box[1], a[i + 1] as number);
      box[2] = Math.max(box[2], a[i] as number);
      box[3] = Math.max(box[3], a[i + 1] as number);
    }
  }
  return boxes;
}

function covers(doubled: Float32Array, box: Box): boolean {
  for (let i = 0; i < doubled.length; i += 2) {
    const [u, v] = [doubled[i] as number, doubled[i + 1] as number];
    if (u >= box[0] - 1e-6 && u <= box[2] + 1e-6 && v >= box[1] - 1e-6 && v <= box[3] + 1e-6) return true;
  }
  return false;
}

/** Range of densities of a page, chart by chart. */
export function densitiesOf(report: ChartReport): [number, number] {
  const known = report.charts.map((x) => x.texels_per_m / report.page_tiles).filter((x) => x > 0);
  return known.length ? [Math.min(...known), Math.max(...known)] : [0, 1];
}
