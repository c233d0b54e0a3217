import { cleanup, fireEvent, render, screen, within } from "@testing-library/react";
import { createRef } from "react";
import { Route, Routes } from "react-router";
import { afterEach, describe, expect, test, vi } from "vitest";
import { around, serve } from "../../testing";
import { part } from "../../testing/part";
import { readout } from "./GaugeChart";
import type { Along, Moment } from "./queries";
import { type GaugeActs, nextBeyond, TideGauge, verdict } from "./TideGauge";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const CLASSES = ["sky", "behind the camera", "off the frame", "on the frame"];
const moment = (t: number, over: object = {}) => ({
  t_s: t,
  eye: [t, 1.6, 0],
  forward: [0, 0, -1],
  in_sight: 4,
  due: 33,
  predicted: 33 / 2 ** t,
  measured: null,
  away: -t,
  measured_away: null,
  light: [0, 3 * t, 0, 26 - 3 * t],
  found: 26 - 3 * t,
  rays: [3, 1],
  ...over,
});
const along = (drawn: boolean, over: object = {}) => ({
  move: "visit",
  viewpoint: "hall",
  anchors: 4,
  limit_stops: 0.25,
  holds: false,
  drift: 0.8,
  measured_drift: drawn ? 0.76 : null,
  worst_s: 0.8,
  exceeds: [
    [0.4, 0.4],
    [0.8, 0.8],
  ],
  cause: "behind the camera",
  helps: [
    { remedy: "a margin of 512 px", drift: 0.8, enough: false },
    { remedy: "a bake, a probe, rays into the world", drift: 0.01, enough: true },
  ],
  classes: CLASSES,
  moments: [0, 0.2, 0.4, 0.6, 0.8].map((t) =>
    moment(t, {
      ...(t === 0 || (drawn && t === 0.8) ? { measured: 30, measured_away: -t } : {}),
      ...(t === 0.6
        ? { in_sight: 0, due: null, predicted: null, away: null, light: [], found: null, rays: [0, 0] }
        : {}),
    }),
  ),
  spot: [1, 0, -2],
  ends: [
    [0, 1, -4],
    [5, 1, 3],
  ],
  ...over,
});
const LOOK = { project: 1, build: 1, viewpoint: "hall", target: null, state: "head", stamp: "1" } as const;

function gauge(move: string | null) {
  const asked = serve({
    "GET /api/projects/1/builds/1/light/hall/moves": { own: ["visit"], stock: ["turn", "sway"] },
    "GET /api/projects/1/builds/1/light/hall/move?move=visit&drawn=false": along(false),
    "GET /api/projects/1/builds/1/light/hall/move?move=visit&drawn=true": along(true),
    "POST /api/projects/1/builds/1/cases": { number: 7 },
  });
  const acts = createRef<GaugeActs>() as { current: GaugeActs | null };
  const set = vi.fn();
  render(
    around({
      children: (
        <Routes>
          <Route
            path="/"
            element={
              <TideGauge
                look={LOOK}
                region={[1, 2, 30, 40]}
                move={move}
                setMove={set}
                wipe={0.5}
                acts={acts}
              />
            }
          />
          <Route path="/p/1/b/1/bench/7" element={<p>the case</p>} />
        </Routes>
      ),
    }),
  );
  return { asked, acts, set };
}

describe("words", () => {
  const a = part<Along>(along(true)) as Along;
  test("the verdict says by how much and from when on", () => {
    expect(verdict(a)).toBe("It drifts by 0.76 stops along visit, from 0.40 s on");
    expect(verdict(part<Along>(along(true, { holds: true })) as Along)).toBe(
      "It holds along visit: drift 0.76 stops",
    );
  });
  test("the next moment beyond the limit, from the beginning again after the last", () => {
    expect([nextBeyond(a, 0), nextBeyond(a, 2), nextBeyond(a, 4)]).toEqual([2, 4, 2]);
    expect(nextBeyond(part<Along>(along(true, { exceeds: [] })) as Along, 3)).toBe(3);
  });
  test("what is predicted says so, what is out of sight too", () => {
    const says = (over: object) => readout(part<Moment>(moment(1, over)) as Moment);
    expect(says({})).toBe(
      "1.00 s: due 33 nit, drawn 16.5 nit, −1.00 stops from its best moment [prediction]",
    );
    expect(says({ measured: 17, measured_away: -0.9 })).toContain("drawn 17 nit, −0.90 stops");
    expect(says({ due: null })).toBe("1.00 s: out of sight");
  });
});

describe("gauge", () => {
  test("nothing is followed before it is wanted; the build's own moves come first", async () => {
    const { asked, acts, set } = gauge(null);
    expect(await screen.findByRole("option", { name: "sway" })).toBeTruthy();
    expect((screen.getByRole("combobox", { name: "Move" }) as HTMLSelectElement).value).toBe("visit");
    expect(asked.some((a) => a.path.includes("/move?"))).toBe(false);
    expect(acts.current).toBeNull();
    fireEvent.click(screen.getByRole("button", { name: "Look along it" }));
    expect(set).toHaveBeenCalledWith("visit");
  });
  test("first what is forecast, then what was drawn; tables beside both drawings", async () => {
    gauge("visit");
    await screen.findByRole("heading", { name: /drifts by 0.80 stops along visit/ });
    await screen.findByRole("heading", { name: /drifts by 0.76 stops/ });
    const rows = within(screen.getByTestId("moments")).getAllByRole("row");
    expect(rows.slice(1).map((r) => r.querySelector("td")?.textContent)).toEqual(["0.00 s", "0.80 s"]);
    expect(
      within(screen.getByTestId("helps")).getByText("✓ within the limit").closest("tr")?.textContent,
    ).toContain("rays into the world");
    // The pen is lifted where nothing is in sight: two runs of each.
    expect(screen.getByTestId("gauge").querySelectorAll("polyline")).toHaveLength(4);
    expect(screen.getByTestId("plan").getAttribute("aria-label")).toContain(
      "1 behind the camera, 1 on the frame",
    );
  });
  test("by keys: along the move, to the next moment beyond, to a case", async () => {
    const { acts, asked } = gauge("visit");
    await screen.findByRole("heading", { name: /0.76 stops/ });
    const says = () => screen.getByRole("status", { name: "At this moment" }).textContent;
    const press = (act: (a: GaugeActs) => void) => {
      if (acts.current) act(acts.current);
    };
    expect(says()).toContain("0.00 s: due 33 nit, drawn 30 nit");
    press((a) => a.time(1));
    await screen.findByText(/^0.20 s: due/);
    press((a) => a.time(10));
    await screen.findByText(/^0.80 s: due/);
    press((a) => a.next());
    await screen.findByText(/^0.40 s: due/);
    press((a) => a.open());
    await screen.findByText("the case");
    expect(asked.find((a) => a.method === "POST")?.body).toMatchObject({
      viewpoint: "hall",
      symptom: "drifts while moving",
      spot: [1, 2, 30, 40],
    });
  });
});
