import type { PageDocument } from "../../api/client";

/** A chart page as arrays, places 0..1 with v down; see docs/formats.md. */
export type Page = {
  triangles: Float32Array;
  chart: Int32Array;
  density: Float32Array;
  borders: Float32Array;
  borderChart: Int32Array;
  doubled: Float32Array;
  splits: Float32Array;
  gutterAt: [number, number] | null;
  index: ChartIndex;
};

const bytesOf = (text: string) => Uint8Array.from(atob(text), (c) => c.charCodeAt(0)).buffer;
const floats = (text: string) => new Float32Array(bytesOf(text));

export function decoded(d: PageDocument): Page {
  const triangles = floats(d.triangles);
  return {
    triangles,
    chart: new Int32Array(bytesOf(d.chart)),
    density: floats(d.density),
    borders: floats(d.borders),
    borderChart: new Int32Array(bytesOf(d.border_chart)),
    doubled: floats(d.doubled),
    splits: floats(d.splits),
    gutterAt: d.gutter_at && [d.gutter_at[0] ?? 0, d.gutter_at[1] ?? 0],
    index: new ChartIndex(triangles),
  };
}

const CELLS = 64;

/** Finds the triangles under a place, by an even grid of lists. */
export class ChartIndex {
  private readonly cells = new Map<number, number[]>();
  constructor(private readonly triangles: Float32Array) {
    for (let t = 0; t * 6 < triangles.length; t++) {
      const [x0, x1] = span(triangles, t * 6);
      const [y0, y1] = span(triangles, t * 6 + 1);
      for (let y = cell(y0); y <= cell(y1); y++)
        for (let x = cell(x0); x <= cell(x1); x++) {
          const key = y * 4096 + x;
          const list = this.cells.get(key);
          if (list) list.push(t);
          else this.cells.set(key, [t]);
        }
    }
  }
  /** The first triangle under a place, -1 if there is none. */
  at(u: number, v: number): number {
    for (const t of this.cells.get(cell(v) * 4096 + cell(u)) ?? []) if (this.holds(t, u, v)) return t;
    return -1;
  }
  private holds(t: number, u: number, v: number): boolean {
    const a = this.triangles;
    const i = t * 6;
    const side = (p: number, q: number) =>
      ((a[q] as number) - (a[p] as number)) * (v - (a[p + 1] as number)) -
      ((a[q + 1] as number) - (a[p + 1] as number)) * (u - (a[p] as number));
    const s = [side(i, i + 2), side(i + 2, i + 4), side(i + 4, i)];
    return s.every((k) => k >= -1e-12) || s.every((k) => k <= 1e-12);
  }
}

const cell = (v: number) => Math.min(Math.max(Math.floor(v * CELLS) + 1024, 0), 4095);

function span(a: Float32Array, i: number): [number, number] {
  const [p, q, r] = [a[i] as number, a[i + 2] as number, a[i + 4] as number];
  return [Math.min(p, q, r), Math.max(p, q, r)];
}

/** Which asset and page place each pixel of a frame shows. */
export type FrameTexels = {
  width: number;
  height: number;
  names: string[];
  asset: Int32Array;
  place: Float32Array;
};

export function texelsOf(data: ArrayBuffer, width: number, height: number): FrameTexels {
  const length = new DataView(data).getUint32(0, true);
  const names = JSON.parse(new TextDecoder().decode(new Uint8Array(data, 4, length))) as string[];
  const asset = new Int32Array(data, 4 + length, width * height);
  return {
    width,
    height,
    names,
    asset,
    place: new Float32Array(data, 4 + length + asset.byteLength, width * height * 2),
  };
}
