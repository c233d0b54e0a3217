import { expect, test } from "vitest";
import { bytes, costWords, figure, percent, withUnit } from "./words";

test("numbers for people", () => {
  expect(figure(12345.6)).toBe("12\u202f346");
  expect(figure(0.123456)).toBe("0.1235");
  expect(figure(null)).toBe("∞");
  expect(percent(0.0446)).toBe("4.46\u202f%");
  expect(bytes(0)).toBe("0\u202fB");
  expect(bytes(3 * 1024 * 1024)).toBe("3\u202fMiB");
  expect(withUnit(2, "mm")).toBe("2\u202fmm");
  expect(withUnit(2048, "bytes")).toBe("2\u202fKiB");
  expect(costWords({ name: "memory", value: 2048, unit: "bytes" })).toBe("memory 2\u202fKiB");
  expect(costWords({ name: "triangles", value: 4, unit: "triangles" })).toBe("4\u202ftriangles");
  expect(withUnit(2, "-")).toBe("2");
});
