import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { askAgainAfter, patientFetch } from "./patient";

const later = (status: number, seconds: string | null) =>
  new Response("{}", { status, headers: seconds === null ? {} : { "Retry-After": seconds } });

beforeEach(() => {
  vi.useFakeTimers();
});

afterEach(() => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

test("only 429 and 503 that say when are asked again", () => {
  expect(askAgainAfter(later(429, "5"))).toBe(5);
  expect(askAgainAfter(later(503, "3"))).toBe(3);
  expect(askAgainAfter(later(503, "9999"))).toBe(30);
  expect(askAgainAfter(later(429, null))).toBeNull();
  expect(askAgainAfter(later(404, "5"))).toBeNull();
  expect(askAgainAfter(new Response("{}"))).toBeNull();
});

test("a request that has to wait is sent again when the server says so, and not before", async () => {
  const answers = [later(429, "2"), later(503, "4"), new Response("drawn")];
  const fetched = vi.fn(async () => answers.shift() as Response);
  vi.stubGlobal("fetch", fetched);
  const asked = patientFetch("/api/frame");
  await vi.advanceTimersByTimeAsync(1900);
  expect(fetched).toHaveBeenCalledTimes(1);
  await vi.advanceTimersByTimeAsync(200);
  expect(fetched).toHaveBeenCalledTimes(2);
  await vi.advanceTimersByTimeAsync(4000);
  expect(await (await asked).text()).toBe("drawn");
});

test("a write is sent once, whatever the answer", async () => {
  const fetched = vi.fn(async () => later(503, "1"));
  vi.stubGlobal("fetch", fetched);
  expect((await patientFetch("/api/keep", { method: "POST" })).status).toBe(503);
  expect(fetched).toHaveBeenCalledTimes(1);
});

test("who has left does not wait on", async () => {
  vi.stubGlobal(
    "fetch",
    vi.fn(async () => later(429, "20")),
  );
  const leaves = new AbortController();
  const asked = patientFetch("/api/frame", { signal: leaves.signal });
  const refused = expect(asked).rejects.toThrow("gone");
  await vi.advanceTimersByTimeAsync(100);
  leaves.abort(new Error("gone"));
  await refused;
});
