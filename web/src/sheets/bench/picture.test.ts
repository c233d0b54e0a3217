import { expect, test } from "vitest";
import { paint } from "./picture";

const pixel = (value: number, scale: number, stops: number) => {
  const image = { width: 1, height: 1, data: new Uint8ClampedArray(4) } as unknown as ImageData;
  paint(image, { width: 1, height: 1, rgb: new Float32Array([value, value, value]), scale }, stops);
  return image.data[0];
};

// IEC 61966-2-1: linear 0.2140 encodes as 0.5 (128), 0.0031308 as 0.04045 (10), 1 as 255.
test("sRGB encoding at the standard's points", () => {
  expect(pixel(0.214, 1, 0)).toBe(128);
  expect(pixel(0.0031308, 1, 0)).toBe(10);
  expect(pixel(1, 1, 0)).toBe(255);
  expect(pixel(0, 1, 0)).toBe(0);
});

test("one stop doubles the light, and exposure scales it first", () => {
  expect(pixel(0.107, 1, 1)).toBe(128);
  expect(pixel(428, 0.001, -1)).toBe(128);
  expect(pixel(9, 1, 0)).toBe(255);
});
