import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render, screen } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { Shadows } from "./Shadows";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const test_ = (over: object) => ({
  name: "the light casts",
  passed: true,
  value: null,
  limit: null,
  margin: null,
  unit: "-",
  leaf: "lights.sun.casts",
  level: "light",
  critical: null,
  ...over,
});
const light = (over: object) => ({
  light: "sun",
  technique: "cascades",
  stops: 1.2,
  written_as: null,
  due: true,
  as_flagged: true,
  drawn: 1,
  verdict: "missing",
  caster: "hoist",
  caster_m: 4.02,
  tests: [
    test_({}),
    test_({
      name: "a map serves this depth",
      passed: false,
      value: 389.3,
      limit: 360,
      unit: "m",
      leaf: "shadow.reach_m",
      level: "project",
      critical: 389.3,
    }),
  ],
  lost_at: "a map serves this depth",
  wrote: [],
  behind: [],
  clears: null,
  clears_deg: null,
  passed: [],
  too_bright_stops: null,
  retried: { leaf: "shadow.reach_m", value: 390, drawn: 0, lost_at: null },
  ...over,
});

const edit = {
  target: null,
  role: "edit",
  lights: [{ light: "sun", verdict: "agrees", drawn: 0, lost_at: null }],
};

function open(...lights: object[]) {
  const elsewhere = [edit];
  const answer = { viewpoint: "quay", at: [4, 5], drawable: "wall", place_m: [0, 0, 0], lights, elsewhere };
  vi.stubGlobal("fetch", async () => new Response(JSON.stringify(answer)));
  render(
    <QueryClientProvider client={new QueryClient()}>
      <Shadows base="/api/x" stamp="1" at={[4, 5]} />
    </QueryClientProvider>,
  );
}

test("a lost shadow says what it is due to, which test lost it, and what was drawn at the critical value", async () => {
  open(light({}));
  expect(await screen.findByText("Lost at: a map serves this depth")).toBeTruthy();
  const region = screen.getByRole("region", { name: "Shadows at this pixel" });
  expect(region.textContent).toMatch(/A shadow of hoist is due, 4\.02 m away/);
  expect(region.textContent).toMatch(/which is 1\.2 stops here/);
  expect(region.textContent).toMatch(/389\.3 m, limit 360 m; set by project: shadow\.reach_m/);
  expect(region.textContent).toMatch(/It would pass at 389\.3 \(a prediction\)/);
  expect(region.textContent).toMatch(/Drawn with shadow\.reach_m 390: 0\s% let through, the shadow is there/);
  expect(screen.getByText("1 of 2 tests pass")).toBeTruthy();
  expect(region.textContent).toMatch(/In other roles and targetsrole edit: sun agrees/);
});

test("lamps that do not reach the pixel stand in one line", async () => {
  const far = { due: false, verdict: "out of reach", tests: [], caster: null, lost_at: null, retried: null };
  open(light({}), light({ light: "lamp_a", ...far }), light({ light: "lamp_b", ...far }));
  expect((await screen.findByText(/Out of reach/)).textContent).toBe("Out of reach: lamp_a, lamp_b");
  expect(screen.queryByText("lamp_a")).toBeNull();
});

test("what a light goes through is told, with what it ought to leave", async () => {
  const cloth = { name: "awning", away_m: 2.99, keeps: [0.5, 0.25, 0.25], throws: "none" };
  const free = { due: false, tests: [], caster: null, lost_at: null, retried: null };
  open(light({ ...free, verdict: "lit through", passed: [cloth], too_bright_stops: 1.5 }));
  const region = await screen.findByRole("region", { name: "Shadows at this pixel" });
  await screen.findByText("lit through");
  expect(region.textContent).toMatch(
    /It goes through awning, 2\.99 m away, which keeps 50.% 25.% 25.% of what is seen through it and throws no shadow\.Its light is 1\.5 stops too bright for that/,
  );
});

test("where none is due it says what the light clears", async () => {
  open(
    light({
      due: false,
      verdict: "agrees",
      lost_at: null,
      tests: [],
      retried: null,
      clears: "hoist",
      clears_deg: 0.8,
    }),
  );
  expect(await screen.findByText("✓ as it should be")).toBeTruthy();
  expect(screen.getByText(/No shadow is due/).textContent).toMatch(/It clears hoist by 0\.8°/);
});
