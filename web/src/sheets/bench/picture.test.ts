import { expect, test } from "vitest";
import { part } from "../../testing/part";
import { linearLight, paint } from "./picture";

const canvas = (width: number, height: number) =>
  part<ImageData>({ width, height, data: new Uint8ClampedArray(width * height * 4) });

const pixel = (value: number, scale: number, stops: number) => {
  const image = canvas(1, 1);
  paint(image, linearLight(1, 1, new Float32Array([value, value, value]), scale), stops);
  return image.data[0] as number;
};

/** IEC 61966-2-1, eq. for encoding, to 8 bits. */
const encoded = (light: number) => {
  const v = Math.min(1, light);
  return Math.round(255 * (v <= 0.0031308 ? 12.92 * v : 1.055 * v ** (1 / 2.4) - 0.055));
};

test("every 8-bit code of the standard comes out as itself", () => {
  for (let code = 0; code < 256; code++) {
    const c = code / 255;
    const light = c <= 0.04045 ? c / 12.92 : ((c + 0.055) / 1.055) ** 2.4;
    expect(pixel(light, 1, 0)).toBe(code);
  }
});

test("random light at random exposure is within one code of the standard's curve", () => {
  let seed = 7;
  const random = () => {
    seed = (seed * 48271) % 2147483647;
    return seed / 2147483647;
  };
  for (let i = 0; i < 4000; i++) {
    const [value, scale, stops] = [2 ** (random() * 40 - 20), 2 ** (random() * 30 - 20), random() * 8 - 4];
    expect(Math.abs(pixel(value, scale, stops) - encoded(value * scale * 2 ** stops))).toBeLessThanOrEqual(1);
  }
});

test("black, negative and not-a-number light is black; any excess is white", () => {
  expect([0, -3, Number.NaN].map((v) => pixel(v, 1, 4))).toEqual([0, 0, 0]);
  expect([1, 9, 1e30, Number.POSITIVE_INFINITY].map((v) => pixel(v, 1, 0))).toEqual([255, 255, 255, 255]);
});

test("channels and columns keep their places, and columns outside are left alone", () => {
  const image = canvas(3, 2);
  const rgb = new Float32Array(18).map((_, i) => [1, 0.214, 0][i % 3] as number);
  paint(image, linearLight(3, 2, rgb, 1), 0, 1, 3);
  const row = [0, 0, 0, 0, 255, encoded(0.214), 0, 255, 255, encoded(0.214), 0, 255];
  expect([...image.data]).toEqual([...row, ...row]);
});
