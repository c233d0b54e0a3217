import type { Colours, Drawn, View } from "./draw";

export type Spot = { u: number; v: number; chart: number };

export const inside = (u: number, v: number) => u >= 0 && u < 1 && v >= 0 && v < 1;

/** Whether two places are of one texel and chart. */
export function sameTexel(a: Spot | null, b: Spot | null, edge: number): boolean {
  if (!a || !b) return a === b;
  return (
    a.chart === b.chart &&
    Math.floor(a.u * edge) === Math.floor(b.u * edge) &&
    Math.floor(a.v * edge) === Math.floor(b.v * edge)
  );
}

/** What lies over the drawn page: the chart and texel under the pointer, what the frame points at, the texel asked about. */
export function drawOverlay(
  c: CanvasRenderingContext2D,
  d: Drawn,
  view: View,
  colours: Colours,
  cursor: [number, number] | null,
  hover: Spot | null,
  tied: { u: number; v: number } | null,
): void {
  const edge = d.report.resolution;
  const texel = view.size / edge;
  const square = (x: number, y: number, width: number, colour: string) => {
    const grow = Math.max(0, (6 - texel) / 2);
    const at = [
      view.x + x * texel - grow,
      view.y + y * texel - grow,
      texel + 2 * grow,
      texel + 2 * grow,
    ] as const;
    c.lineWidth = width + 2;
    c.strokeStyle = colours.paper;
    c.strokeRect(...at);
    c.lineWidth = width;
    c.strokeStyle = colour;
    c.strokeRect(...at);
  };
  const chart = hover ? hover.chart : tied ? chartAt(d, tied) : -1;
  if (chart >= 0) {
    c.beginPath();
    const b = d.page.borders;
    for (let e = 0; e * 4 < b.length; e++)
      if (d.page.borderChart[e] === chart) {
        c.moveTo(view.x + (b[e * 4] as number) * view.size, view.y + (b[e * 4 + 1] as number) * view.size);
        c.lineTo(
          view.x + (b[e * 4 + 2] as number) * view.size,
          view.y + (b[e * 4 + 3] as number) * view.size,
        );
      }
    c.strokeStyle = colours.ink;
    c.lineWidth = 2.4;
    c.stroke();
  }
  if (hover) square(Math.floor(hover.u * edge), Math.floor(hover.v * edge), 1.4, colours.ink);
  if (tied) square(Math.floor(tied.u * edge), Math.floor(tied.v * edge), 1.8, colours.primary);
  if (cursor) square(cursor[0], cursor[1], 2.4, colours.signal);
}

function chartAt(d: Drawn, at: { u: number; v: number }): number {
  const t = d.page.index.at(at.u, at.v);
  return t < 0 ? -1 : (d.page.chart[t] as number);
}
