import { patientFetch } from "../../api/patient";

/** Frames as pixels: PNG for looking, linear light for exposure and loupe. Only display is done here; nothing of the job. */
export type Linear = { width: number; height: number; rgb: Float32Array; codes: Uint16Array; scale: number };

export const SIZE = { width: 960, height: 540 };
const CLIENT = Math.random().toString(36).slice(2);
let turn = 0;

export const frameUrl = (base: string, form = "png") =>
  `${base}${base.includes("?") ? "&" : "?"}width=960&height=540&form=${form}`;

/** Float32 linear rgb of a frame before exposure, with the scale its exposure asks for. */
export async function fetchLinear(base: string, signal?: AbortSignal): Promise<Linear> {
  turn += 1;
  const answer = await patientFetch(`${frameUrl(base, "linear")}&client=${CLIENT}&turn=${turn}`, { signal });
  if (!answer.ok) throw new Error(`The frame could not be drawn (${answer.status}).`);
  const rgb = new Float32Array(await answer.arrayBuffer());
  return linearLight(SIZE.width, SIZE.height, rgb, Number(answer.headers.get("X-Exposure-Scale") ?? 1));
}

// Exposure multiplies, so light is kept as logarithmic codes as well: a step of exposure then only shifts which entry of one table
// is read. 1024 codes a stop are 0.07 %, a tenth of the finest step of 8 bits; 64 stops from 2^-24 hold any light.
const CODES_A_STOP = 1024;
const LOWEST_STOP = -24;
const CODES = 65536;

/** IEC 61966-2-1 sRGB encoding of display-linear light, to 8 bits. */
export function encoded(light: number): number {
  const v = Math.min(1, Math.max(0, light));
  return Math.round(255 * (v <= 0.0031308 ? 12.92 * v : 1.055 * v ** (1 / 2.4) - 0.055));
}

// The encoding of every code, shifted by up to as many codes either way.
const ENCODED = Uint8Array.from({ length: 3 * CODES }, (_, i) =>
  encoded(2 ** ((i - CODES - 1) / CODES_A_STOP + LOWEST_STOP)),
);

/** Linear light with its codes: rgb before exposure, rows from the top; scale is what the build's exposure multiplies by. */
export function linearLight(width: number, height: number, rgb: Float32Array, scale: number): Linear {
  const codes = new Uint16Array(rgb.length);
  for (let i = 0; i < rgb.length; i++) {
    const value = rgb[i] as number;
    const code = Math.round((Math.log2(value) - LOWEST_STOP) * CODES_A_STOP) + 1;
    codes[i] = value > 0 ? Math.min(CODES - 1, Math.max(0, code)) : 0;
  }
  return { width, height, rgb, codes, scale };
}

/** Draw linear light with an exposure offset in stops, columns from..to only: what the wipe hides is not painted. */
export function paint(target: ImageData, source: Linear, stops: number, from = 0, to = source.width): void {
  const { codes, width, height } = source;
  const gain = Math.round((Math.log2(source.scale) + stops) * CODES_A_STOP);
  const shift = CODES + Math.min(CODES, Math.max(-CODES, gain));
  const out = new Uint32Array(target.data.buffer);
  for (let y = 0; y < height; y++) {
    const end = y * width + to;
    for (let p = y * width + from, i = p * 3; p < end; p++, i += 3) {
      const r = ENCODED[(codes[i] as number) + shift] as number;
      const g = ENCODED[(codes[i + 1] as number) + shift] as number;
      const b = ENCODED[(codes[i + 2] as number) + shift] as number;
      out[p] = 0xff000000 | (b << 16) | (g << 8) | r;
    }
  }
}
