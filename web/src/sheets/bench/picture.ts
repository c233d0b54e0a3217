/** Frames as pixels: PNG for looking, linear light for exposure and loupe. Only display is done here; nothing of the job. */
export type Linear = { width: number; height: number; rgb: Float32Array; scale: number };

export const SIZE = { width: 960, height: 540 };
const CLIENT = Math.random().toString(36).slice(2);
let turn = 0;

export const frameUrl = (base: string, form = "png") =>
  `${base}${base.includes("?") ? "&" : "?"}width=960&height=540&form=${form}`;

/** Float32 linear rgb of a frame before exposure, with the scale its exposure asks for. */
export async function fetchLinear(base: string, signal?: AbortSignal): Promise<Linear> {
  turn += 1;
  const answer = await fetch(`${frameUrl(base, "linear")}&client=${CLIENT}&turn=${turn}`, { signal });
  if (!answer.ok) throw new Error(`The frame could not be drawn (${answer.status}).`);
  const rgb = new Float32Array(await answer.arrayBuffer());
  return { ...SIZE, rgb, scale: Number(answer.headers.get("X-Exposure-Scale") ?? 1) };
}

// IEC 61966-2-1 sRGB encoding, tabled over 4096 steps of linear light.
const TABLE = Uint8ClampedArray.from({ length: 4097 }, (_, i) => {
  const v = i / 4096;
  return 255 * (v <= 0.0031308 ? 12.92 * v : 1.055 * v ** (1 / 2.4) - 0.055) + 0.5;
});

/** Draw linear light with an exposure offset in stops, columns from..to only: what the wipe hides is not painted. */
export function paint(target: ImageData, source: Linear, stops: number, from = 0, to = source.width): void {
  const gain = source.scale * 2 ** stops * 4096;
  const { rgb } = source;
  const out = target.data;
  for (let y = 0; y < source.height; y++) {
    const end = (y * source.width + to) * 3;
    for (let i = (y * source.width + from) * 3, o = (y * source.width + from) * 4; i < end; i += 3, o += 4) {
      out[o] = TABLE[Math.min(4096, Math.max(0, ((rgb[i] as number) * gain) | 0))] as number;
      out[o + 1] = TABLE[Math.min(4096, Math.max(0, ((rgb[i + 1] as number) * gain) | 0))] as number;
      out[o + 2] = TABLE[Math.min(4096, Math.max(0, ((rgb[i + 2] as number) * gain) | 0))] as number;
      out[o + 3] = 255;
    }
  }
}
