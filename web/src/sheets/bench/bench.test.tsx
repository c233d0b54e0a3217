import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, within } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, expect, test, vi } from "vitest";
import type { Case, CoreSample, Layer, ProofResult, TrialDocument } from "../../api/client";
import { part } from "../../testing/part";
import { CoreLog } from "./CoreLog";
import { SoundingLine } from "./SoundingLine";
import { Trials } from "./Trials";
import { type Acts, useBenchKeys } from "./useBenchKeys";
import { ProofTable } from "./Verdict";

afterEach(cleanup);

const trial = (over: Partial<TrialDocument>): TrialDocument => ({
  title: "write prepass depth (net)",
  verdict: "clears it",
  before: 4961,
  after: 0,
  collateral_share: 0,
  new_findings: [],
  also_changed_share: 0.039,
  pass: "prepass",
  scope: "shader",
  predicts: "fog finds the surface's own depth",
  because: "shader net has no depth pass",
  surprise: false,
  change: {},
  ...over,
});

const layer = (over: Partial<Layer>): Layer => ({
  pass: "opaque",
  drawable: "net",
  state: "writes depth",
  colour: [1, 1, 1],
  weight: [1, 1, 1],
  before: [0, 0, 0],
  after: [1, 1, 1],
  depth_m: 12,
  facts: {},
  alarm: "",
  ...over,
});

test("a trial says its score, its verdict and what it costs elsewhere", () => {
  const choose = vi.fn();
  const prints = [
    { key: "a", document: trial({}), picture: null },
    {
      key: "b",
      document: trial({
        title: "fog off",
        verdict: "clears it but breaks something else",
        collateral_share: 0.505,
      }),
      picture: null,
    },
    { key: "c", document: trial({ title: "shadows off", verdict: "no effect", after: 4961 }), picture: null },
  ];
  render(<Trials prints={prints} unit="nit" chosen={0} choose={choose} />);
  const [first, second, third] = screen.getAllByRole("listitem");
  expect(
    within(first as HTMLElement)
      .getByRole("button")
      .getAttribute("aria-pressed"),
  ).toBe("true");
  expect(first?.textContent).toContain("4\u202f961→0 nit");
  expect(second?.textContent).toContain("50.5\u202f% elsewhere");
  expect(third?.textContent).toContain("no effect · ruled out");
  fireEvent.click(within(second as HTMLElement).getByRole("button"));
  expect(choose).toHaveBeenCalledWith(1);
});

async function log(layers: Layer[]): Promise<HTMLElement[]> {
  const sample: CoreSample = {
    viewpoint: "eye",
    at: [3, 4],
    drawable: "net",
    linear: [0.5, 0.632, 0.7],
    sum: [0.5, 0.632, 0.7],
    prepass_depth_m: 85,
    depth_m: 12,
    layers,
    transforms: ["display: sRGB encoding to 8 bit"],
    exposure_scale: 0.428,
  };
  vi.stubGlobal("fetch", async () => new Response(JSON.stringify(sample)));
  render(
    <QueryClientProvider client={new QueryClient()}>
      <CoreLog base="/core" stamp="1" at={[3, 4]} onAt={() => {}} />
    </QueryClientProvider>,
  );
  await screen.findByTestId("linear");
  return screen.getAllByRole("listitem");
}

test("the core sample stands with what was laid last on top", async () => {
  const strata = await log([
    layer({ pass: "prepass", drawable: "bank" }),
    layer({}),
    layer({ pass: "fog", drawable: "(fog)" }),
  ]);
  expect(strata.map((s) => s.querySelector("b")?.textContent)).toEqual(["fog", "opaque", "prepass"]);
  expect(screen.getByTestId("linear").textContent).toBe("linear 0.5 0.632 0.7 nit");
});

test("a stratum's colour is the one the display would show", async () => {
  // Code 128 is 0.215861 of display white (IEC 61966-2-1); the exposure of this sample is 0.428.
  const grey = 0.215861 / 0.428;
  const [stratum] = await log([layer({ after: [grey, grey, grey] })]);
  const swatch = stratum?.children[1] as HTMLElement | undefined;
  expect(swatch?.style.background).toBe("rgb(128, 128, 128)");
});

test("what the core finds alarming in a stratum stands out, and the rest does not", async () => {
  const [fog, net] = await log([
    layer({}),
    layer({ pass: "fog", alarm: "73 m too far · 92 % fog instead of 30 %" }),
  ]);
  expect(fog?.querySelector(".text-error")?.textContent).toContain("73 m too far");
  expect(net?.querySelector(".text-error")).toBeNull();
});

const caseOf = (over: Partial<Case>): Case =>
  ({
    number: 1,
    title: "t",
    viewpoint: "eye",
    symptom: "see-through",
    code: null,
    stage: "spot",
    version: 1,
    target: null,
    spot: [1, 2, 30, 40],
    subject: null,
    finding: null,
    lineup: null,
    trials: [],
    kept: [],
    proof: null,
    build_version: 1,
    ...over,
  }) as Case;

test("each stage of the sounding line says what it came to", () => {
  const choose = vi.fn();
  const lineup = part<Case["lineup"]>({ subject: "net", passes_that_wrote: ["fog", "opaque"] });
  const trials = [
    { rank: 0, document: trial({}) },
    { rank: 1, document: trial({ verdict: "no effect" }) },
  ];
  render(
    <SoundingLine
      of={caseOf({ lineup, trials: trials as never, stage: "trials" })}
      chosen="trials"
      choose={choose}
    />,
  );
  const lines = screen.getAllByRole("listitem").map((l) => l.textContent);
  expect(lines).toEqual([
    "symptomsee-through",
    "spotnet, 30 × 40 px",
    "suspects2 passes wrote it",
    "trials2 run · 1 clear it",
    "fixnothing kept yet",
    "proofnot proved yet",
  ]);
  expect(screen.getByRole("button", { name: "trials" }).getAttribute("aria-current")).toBe("step");
  fireEvent.click(screen.getByRole("button", { name: "spot" }));
  expect(choose).toHaveBeenCalledWith("spot");
});

test("a proof says where it holds, and names siblings with pixels", () => {
  const view = {
    viewpoint: "quay",
    role: "play",
    changed: 0.04,
    on_cause: 0.04,
    elsewhere: 0,
    shadow_edges: 0,
    light_truer: 0,
    siblings: { net_2: 310 },
  };
  const proof: ProofResult = {
    proved: true,
    why: "the finding is gone",
    ended: ["nets fade"],
    left: [],
    made: [],
    views: [view],
    moves: [{ move: "visit", surface: "floor", before: 1.35, after: 0.1, further: 0 }],
  };
  render(<ProofTable of={proof} />, { wrapper: MemoryRouter });
  expect(screen.getByText(/✓ Proved/).textContent).toContain("the finding is gone");
  expect(screen.getByText("net_2: 310 px")).toBeTruthy();
  expect(screen.getByText(/^Along visit, floor drifts by/).textContent).toBe(
    "Along visit, floor drifts by 0.10 stops, 1.35 before [prediction]",
  );
  expect(screen.getByText(/^4\.00\s%$/)).toBeTruthy();
});

function Keys({ acts }: { acts: Acts }) {
  useBenchKeys(acts);
  return <input aria-label="field" />;
}

test("keys act on the sheet and are left alone in a field", () => {
  const acts = {
    before: vi.fn(),
    lineUp: vi.fn(),
    keep: vi.fn(),
    drop: vi.fn(),
    trial: vi.fn(),
    viewpoint: vi.fn(),
    loupe: vi.fn(),
    back: vi.fn(),
  };
  render(<Keys acts={acts} />);
  for (const key of ["b", "L", "k", "d", "[", "]", ",", ".", "g", "Escape"])
    fireEvent.keyDown(document.body, { key });
  expect(acts.before).toHaveBeenCalledWith(true);
  expect([acts.lineUp, acts.keep, acts.drop, acts.loupe, acts.back].map((a) => a.mock.calls.length)).toEqual([
    1, 1, 1, 1, 1,
  ]);
  expect(acts.trial.mock.calls).toEqual([[-1], [1]]);
  expect(acts.viewpoint.mock.calls).toEqual([[-1], [1]]);
  fireEvent.keyUp(document.body, { key: "b" });
  expect(acts.before).toHaveBeenLastCalledWith(false);
  fireEvent.keyDown(screen.getByLabelText("field"), { key: "k" });
  fireEvent.keyDown(document.body, { key: "k", repeat: true });
  fireEvent.keyDown(document.body, { key: "k", ctrlKey: true });
  expect(acts.keep).toHaveBeenCalledTimes(1);
});
