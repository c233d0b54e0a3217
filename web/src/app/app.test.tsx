import { cleanup, fireEvent, render, screen, waitFor, within } from "@testing-library/react";
import { afterEach, describe, expect, test, vi } from "vitest";
import { around, serve } from "../testing";
import { App } from "./App";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const at = (path: string) => ({
  wrapper: ({ children }: { children?: React.ReactNode }) => around({ children, at: path }),
});
const me = { username: "ana", demo: false, version: "1" };
const nobody = { username: null, demo: true, version: "1" };
const station = {
  id: 3,
  name: "Weirgate quay",
  builds: 1,
  newest: 1,
  role: "lead",
  created: "2026-11-20T10:00:00Z",
  viewpoint: "quay",
  found: { blocking: 2, visible: 1, new: 1 },
  people: ["ana", "ben"],
  jobs: [],
};
const job = (over: object) => ({
  id: 9,
  kind: "sweep",
  about: "sweep of build 1",
  state: "done",
  progress: 1,
  message: "3 findings",
  ...over,
});
const everyone = {
  "GET /api/session": me,
  "GET /api/projects": [station],
  "GET /api/projects/3": station,
  "GET /api/projects/3/jobs": [],
  "GET /api/projects/3/builds/1": {
    number: 1,
    version: 5,
    kept: 1,
    viewpoints: [{ key: "quay" }],
    targets: ["handheld"],
  },
};

describe("signing in", () => {
  test("is asked of whoever is not, and leads to what they wanted", async () => {
    let known = false;
    const asked = serve({
      ...everyone,
      "GET /api/session": () => (known ? me : nobody),
      "POST /api/session": () => {
        known = true;
        return me;
      },
      "GET /api/projects/3/builds/1/cases": [],
      "GET /api/symptoms": [],
    });
    render(<App />, at("/p/3/b/1/bench"));
    expect(await screen.findByText(/This is the demo/)).toBeTruthy();
    fireEvent.change(screen.getByLabelText("Name"), { target: { value: "ana" } });
    fireEvent.change(screen.getByLabelText("Password"), { target: { value: "sluice gate" } });
    fireEvent.click(screen.getByRole("button", { name: "Sign in" }));
    expect(await screen.findByRole("heading", { name: "Cases of build 1" })).toBeTruthy();
    expect(asked.find((a) => a.method === "POST")?.body).toEqual({
      username: "ana",
      password: "sluice gate",
    });
  });
  test("that fails says so and keeps the name", async () => {
    serve({
      "GET /api/session": nobody,
      "POST /api/session": { status: 401, detail: "this name and password do not fit" },
    });
    render(<App />, at("/"));
    fireEvent.change(await screen.findByLabelText("Name"), { target: { value: "ana" } });
    fireEvent.change(screen.getByLabelText("Password"), { target: { value: "x" } });
    fireEvent.click(screen.getByRole("button", { name: "Sign in" }));
    expect(await screen.findByText("this name and password do not fit")).toBeTruthy();
    expect((screen.getByLabelText("Name") as HTMLInputElement).value).toBe("ana");
  });
});

test("projects are listed, and a new one is opened at once", async () => {
  const asked = serve({
    ...everyone,
    "POST /api/projects": { id: 4 },
    "GET /api/projects/4": { ...station, id: 4 },
    "GET /api/projects/4/jobs": [],
    "GET /api/projects/4/builds": [],
    "GET /api/projects/4/members": [],
  });
  render(<App />, at("/"));
  const link = await screen.findByRole("link", { name: "Weirgate quay" });
  expect(link.getAttribute("href")).toBe("/p/3/b/1/sweep");
  const line = link.closest("li");
  expect(line?.textContent).toContain("ana, ben · you are lead");
  expect(line?.textContent).toContain("2 block it");
  expect(line?.textContent).toContain("1 visible");
  expect(line?.textContent).toContain("1 new since the build before");
  fireEvent.change(screen.getByLabelText("New project"), { target: { value: "Pump hall" } });
  fireEvent.click(screen.getByRole("button", { name: "Make it" }));
  await waitFor(() => expect(asked.some((a) => a.path === "/api/projects/4")).toBe(true));
  expect(asked.find((a) => a.method === "POST")?.body).toEqual({ name: "Pump hall" });
});

test("a project that is being filled says what runs, and has no picture yet", async () => {
  const filling = job({
    about: "filling of the demo",
    state: "running",
    progress: 0.3,
    message: "compiling kernels",
  });
  const empty = { ...station, builds: 0, newest: null, viewpoint: null, found: null, jobs: [filling] };
  serve({ ...everyone, "GET /api/projects": [empty] });
  render(<App />, at("/"));
  const line = (await screen.findByRole("link", { name: "Weirgate quay" })).closest("li");
  expect(line?.textContent).toContain("not swept yet");
  expect(line?.textContent).toContain("filling of the demo · 30 %compiling kernels");
  expect(line?.querySelector("img")).toBeNull();
});

describe("the frame around every sheet", () => {
  const open = async (path: string, more: object = {}) => {
    const asked = serve({
      ...everyone,
      "GET /api/projects/3/builds/1/cases": [],
      "GET /api/symptoms": [],
      ...more,
    });
    render(<App />, at(path));
    await screen.findByText("Weirgate quay");
    return asked;
  };
  test("has the sheets of the build and says where one is", async () => {
    await open("/p/3/b/1/bench");
    const sheets = within(screen.getByRole("navigation", { name: "Sheets" })).getAllByRole("link");
    expect(sheets.map((s) => s.textContent)).toEqual([
      "Intake",
      "Set-up",
      "Sweep",
      "Bench",
      "Lightmaps",
      "Draw order",
      "Shadow reach",
      "Light and colour",
      "Ledger",
    ]);
    expect(await screen.findByText("1 · 1 change kept")).toBeTruthy();
  });
  test("shows what runs, and cancels it", async () => {
    const jobs = [
      job({ state: "running", progress: 0.42, message: "quay" }),
      job({ id: 8, about: "bake of build 1" }),
    ];
    const asked = await open("/p/3/b/1/bench", {
      "GET /api/projects/3/jobs": jobs,
      "POST /api/projects/3/jobs/9/cancel": {},
    });
    fireEvent.click(await screen.findByRole("button", { name: "sweep of build 1 · 42 %" }));
    const list = within(screen.getByRole("region", { name: "Jobs" }));
    expect(list.getAllByRole("listitem").map((l) => l.textContent)).toEqual([
      "sweep of build 142 %quayCancel",
      "bake of build 1done3 findings",
    ]);
    fireEvent.click(list.getByRole("button", { name: "Cancel" }));
    await waitFor(() => expect(asked.some((a) => a.path === "/api/projects/3/jobs/9/cancel")).toBe(true));
    fireEvent.keyDown(screen.getByRole("region", { name: "Jobs" }), { key: "Escape" });
    expect(screen.queryByRole("region", { name: "Jobs" })).toBeNull();
  });
  test("folds its topics into one menu where there is little room", async () => {
    const wide = window.matchMedia;
    window.matchMedia = () =>
      ({ matches: true, addEventListener: () => {}, removeEventListener: () => {} }) as never;
    await open("/p/3/b/1/bench");
    const nav = within(screen.getByRole("navigation", { name: "Sheets" }));
    expect(nav.queryByRole("link", { name: "Lightmaps" })).toBeNull();
    const menu = nav.getByRole("button", { name: "Topics" });
    fireEvent.click(menu);
    expect(nav.getByRole("link", { name: "Lightmaps" }).getAttribute("href")).toBe("/p/3/b/1/lightmaps");
    fireEvent.keyDown(window, { key: "Escape" });
    expect(nav.queryByRole("link", { name: "Lightmaps" })).toBeNull();
    window.matchMedia = wide;
  });
  test("tells the keys of every sheet that has some", async () => {
    await open("/p/3/b/1/bench");
    const tables = [...document.querySelectorAll("dialog[aria-label=Keys] caption")].map(
      (c) => c.textContent,
    );
    expect(tables).toEqual([
      "Intake",
      "Bench",
      "Lightmaps",
      "Draw order",
      "Shadow reach",
      "Light and colour",
      "Everywhere",
    ]);
  });
  test("turns to night and back", async () => {
    await open("/p/3/b/1/bench");
    const before = document.documentElement.dataset.theme;
    const turn = () => {
      fireEvent.click(screen.getByRole("button", { name: "ana, menu" }));
      fireEvent.click(screen.getByRole("button", { name: /Nightwatch|Survey/ }));
    };
    turn();
    expect(document.documentElement.dataset.theme).not.toBe(before);
    turn();
    expect(document.documentElement.dataset.theme).toBe(before);
  });
});

describe("cases", () => {
  const symptoms = [
    { name: "see-through", means: "", scored: "yes" },
    { name: "missing shadow", means: "", scored: "yes" },
  ];
  test("are listed with how far they have come", async () => {
    const one = {
      number: 2,
      title: "nets fade",
      symptom: "see-through",
      viewpoint: "quay",
      stage: "proof",
      code: "depth.missing-prepass",
      severity: "blocking",
      impact: { kind: "measured", share: 0.062, viewpoint: "quay" },
      standing: "proved",
      opened_by: "ana",
      opened: "2026-03-04T05:06:00Z",
      stamp: "3.1",
    };
    serve({ ...everyone, "GET /api/projects/3/builds/1/cases": [one], "GET /api/symptoms": symptoms });
    render(<App />, at("/p/3/b/1/bench"));
    const link = await screen.findByRole("link", { name: "2 · nets fade" });
    expect(link.getAttribute("href")).toBe("/p/3/b/1/bench/2");
    const cells = [...(link.closest("tr")?.cells ?? [])].map((cell) => cell.textContent?.trim());
    expect(cells.slice(1, 5)).toEqual([
      "2 · nets fadesee-through at quaydepth.missing-prepass",
      "6.20\u202f%",
      "proof",
      "proved",
    ]);
    expect(cells[5]).toMatch(/^ana/);
    const picture = link.closest("tr")?.querySelector("img");
    expect(picture?.getAttribute("src")).toBe("/api/projects/3/builds/1/cases/2/spot?v=3.1");
  });
  test("a new one is made of a viewpoint and a symptom", async () => {
    const asked = serve({
      ...everyone,
      "GET /api/projects/3/builds/1/cases": [],
      "GET /api/symptoms": symptoms,
      "POST /api/projects/3/builds/1/cases": { status: 422, detail: "quay shows nothing" },
    });
    render(<App />, at("/p/3/b/1/bench"));
    expect(await screen.findByText("No case is open")).toBeTruthy();
    await screen.findByRole("option", { name: "missing shadow" });
    fireEvent.change(screen.getByLabelText("Symptom"), { target: { value: "missing shadow" } });
    fireEvent.change(screen.getByLabelText("What is wrong"), { target: { value: "pier floats" } });
    fireEvent.click(screen.getByRole("button", { name: "Open a case" }));
    expect(await screen.findByText("quay shows nothing")).toBeTruthy();
    expect(asked.find((a) => a.method === "POST")?.body).toEqual({
      viewpoint: "quay",
      symptom: "missing shadow",
      title: "pier floats",
    });
  });
});

describe("the ledger", () => {
  const change = (over: object = {}) => ({
    id: 11,
    title: "write prepass depth (net)",
    scope: "shader",
    reason: "shader net has no depth pass",
    case: 2,
    evidence: {
      verdict: "cures",
      before: 4961.23,
      after: 0,
      costs: [{ name: "memory", value: 2048, unit: "bytes" }],
    },
    kept_by: "ana",
    kept: "2026-11-20T10:00:00Z",
    dropped: null,
    dropped_by: null,
    ...over,
  });
  const ledger = (...changes: object[]) => ({ version: 5, changes, patch: [] });
  const routes = {
    ...everyone,
    "GET /api/projects/3/events": [],
    "GET /api/projects/3/builds/1/hand-over": [],
  };
  test("tells what was kept, why, at what cost, and asks before it drops", async () => {
    const asked = serve({
      ...routes,
      "GET /api/projects/3/builds/1/ledger": ledger(
        change(),
        change({ id: 12, evidence: { from: "set-up", changed_share: 0.0446 }, title: "casts" }),
        change({ id: 13, evidence: { measure: "px of acne", before: 72440, after: 16 }, title: "bias" }),
        change({ id: 10, title: "old", dropped: "2026-11-21T10:00:00Z", dropped_by: "ben" }),
      ),
      "POST /api/projects/3/builds/1/ledger/11/drop": {},
    });
    render(<App />, at("/p/3/b/1/ledger"));
    expect(await screen.findByRole("heading", { name: "3 changes kept, in order" })).toBeTruthy();
    expect(screen.getByText("px of acne 72440 → 16")).toBeTruthy();
    expect(screen.getByText("cures · score 4961 → 0 · memory 2 KiB")).toBeTruthy();
    expect(screen.getByText(/^4\.46.% of the frame changes visibly$/)).toBeTruthy();
    expect(screen.getByText("1 dropped")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "drop write prepass depth (net)" }));
    fireEvent.click(screen.getByRole("button", { name: "Leave it" }));
    expect(asked.some((a) => a.method === "POST")).toBe(false);
    fireEvent.click(screen.getByRole("button", { name: "drop write prepass depth (net)" }));
    fireEvent.click(screen.getByRole("button", { name: "Drop it" }));
    await waitFor(() => expect(asked.some((a) => a.path.endsWith("/ledger/11/drop"))).toBe(true));
    expect(asked.find((a) => a.path.endsWith("/drop"))?.headers.get("If-Match")).toBe("5");
  });
  test("puts its changes in another order", async () => {
    const asked = serve({
      ...routes,
      "GET /api/projects/3/builds/1/ledger": ledger(
        change({ id: 1, title: "first" }),
        change({ id: 2, title: "second" }),
        change({ id: 3, title: "third" }),
      ),
      "POST /api/projects/3/builds/1/ledger/order": {
        status: 409,
        detail: "they do not apply in this order",
      },
    });
    render(<App />, at("/p/3/b/1/ledger"));
    fireEvent.click(await screen.findByRole("button", { name: "later: first" }));
    expect(await screen.findByText("they do not apply in this order")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "earlier: third" }));
    await waitFor(() => expect(asked.filter((a) => a.path.endsWith("/order"))).toHaveLength(2));
    const posts = asked.filter((a) => a.path.endsWith("/order"));
    expect(posts.map((p) => p.body)).toEqual([{ order: [2, 1, 3] }, { order: [1, 3, 2] }]);
    expect(posts[0]?.headers.get("If-Match")).toBe("5");
    expect(screen.queryByRole("button", { name: "earlier: first" })).toBeNull();
    expect(screen.queryByRole("button", { name: "later: third" })).toBeNull();
  });
  test("hands over when something is kept, and says when that has grown old", async () => {
    const asked = serve({
      ...routes,
      "GET /api/projects/3/builds/1/ledger": ledger(change()),
      "GET /api/projects/3/builds/1/hand-over": [
        { id: 6, size: 3 * 1024 * 1024, fresh: false, job: job({}) },
      ],
      "POST /api/projects/3/builds/1/hand-over": {},
    });
    render(<App />, at("/p/3/b/1/ledger"));
    const link = await screen.findByRole("link", { name: /Download the ZIP/ });
    expect(link.getAttribute("href")).toBe("/api/projects/3/builds/1/hand-over/6");
    expect(link.textContent).toContain("3\u202fMiB");
    expect(screen.getByText("older than the ledger: write it again")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Write the hand over" }));
    await waitFor(() => expect(asked.some((a) => a.method === "POST")).toBe(true));
  });
  test("that is empty says what the next step is", async () => {
    serve({ ...routes, "GET /api/projects/3/builds/1/ledger": ledger() });
    render(<App />, at("/p/3/b/1/ledger"));
    expect(await screen.findByText("The ledger is empty")).toBeTruthy();
    expect((screen.getByRole("button", { name: "Write the hand over" }) as HTMLButtonElement).disabled).toBe(
      true,
    );
  });
});

describe("set-up", () => {
  const field = (over: object) => ({
    path: "shadow.reach_m",
    section: "shadow",
    field: "reach_m",
    name: "Reach",
    form: { kind: "number", choices: [], limits: "1 to 1000", optional: false },
    reason: "",
    meaning: "how far the sun's shadows are drawn",
    unit: "m",
    affects: ["shadow"],
    levels: { default: 60, "target handheld": 40 },
    winner: "target handheld",
    value: 40,
    edit: 40,
    play: 40,
    differs: false,
    ...over,
  });
  const copy = field({
    path: "depth.copy_from",
    section: "depth",
    field: "copy_from",
    name: "Copy from",
    form: { kind: "choice", choices: ["none", "prepass", "opaque"], limits: "", optional: false },
    meaning: "what the depth copy holds",
    unit: "-",
    levels: { default: "opaque" },
    winner: "default",
    value: "opaque",
    edit: "opaque",
    play: "prepass",
    differs: true,
  });
  const setup = {
    viewpoint: "quay",
    role: "play",
    target: null,
    sections: ["depth", "shadow"],
    fields: [copy, field({})],
    shaders: [],
    materials: [],
    tables: [
      {
        table: "nodes",
        keys: ["net", "post"],
        fields: [
          {
            field: "casts",
            name: "Casts",
            meaning: "whether it casts shadows",
            unit: "-",
            affects: ["shadow"],
            default: true,
            form: { kind: "yes_no", choices: [], limits: "", optional: false },
          },
        ],
      },
    ],
    exceptions: [
      { table: "nodes", key: "net", field: "casts", value: false, default: true, reason: "nets are thin" },
    ],
  };
  const open = async (more: object = {}) => {
    const asked = serve({ ...everyone, "GET /api/projects/3/builds/1/setup": setup, ...more });
    render(<App />, at("/p/3/b/1/set-up"));
    await screen.findByRole("heading", { name: "Settings as quay sees them" });
    return asked;
  };
  const paths = () =>
    screen
      .getAllByRole("row")
      .flatMap((r) => /(shadow\.reach_m|depth\.copy_from)/.exec(r.textContent ?? "")?.[0] ?? []);
  test("shows each level's value and which is in force, and where edit and play part", async () => {
    await open();
    expect(screen.getByText("One field differs between edit and play.")).toBeTruthy();
    expect(screen.getByText("edit opaque · play prepass")).toBeTruthy();
    const row = screen.getByText("shadow.reach_m").closest("tr") as HTMLElement;
    expect(within(row).getByText("(in force)").closest("td")?.textContent).toBe("40 (in force)");
  });
  test("finds by name or meaning, and shows what is set or what differs alone", async () => {
    await open();
    fireEvent.change(screen.getByLabelText("Find"), { target: { value: "SUN" } });
    expect(paths()).toEqual(["shadow.reach_m"]);
    fireEvent.change(screen.getByLabelText("Find"), { target: { value: "" } });
    fireEvent.change(screen.getByLabelText("Show"), { target: { value: "differs" } });
    expect(paths()).toEqual(["depth.copy_from"]);
    fireEvent.change(screen.getByLabelText("Show"), { target: { value: "set" } });
    expect(paths()).toEqual(["shadow.reach_m"]);
    fireEvent.change(screen.getByLabelText("Find"), { target: { value: "nothing like it" } });
    expect(screen.getByText(/No field fits/)).toBeTruthy();
  });
  test("edits are measured together, kept together with a reason, and never saved silently", async () => {
    const change = { id: "x", title: "both" };
    const asked = await open({
      "POST /api/projects/3/builds/1/setup/trial": {
        title: "both",
        unchanged: false,
        changed_share: 0.0446,
        overridden_by: ["target handheld"],
        change,
      },
      "POST /api/projects/3/builds/1/ledger": {},
    });
    fireEvent.click(screen.getByRole("button", { name: "Try a value for shadow.reach_m" }));
    fireEvent.change(screen.getByLabelText("Value of shadow.reach_m"), { target: { value: "90.5" } });
    fireEvent.click(screen.getByRole("button", { name: "Change casts of net" }));
    fireEvent.click(screen.getByRole("button", { name: "Try a value for net: casts" }));
    fireEvent.change(screen.getByLabelText("Value of net: casts"), { target: { value: "yes" } });
    const trial = within(screen.getByRole("form", { name: "Trial" }));
    expect(trial.getAllByRole("listitem").map((l) => l.textContent)).toEqual([
      "shadow.reach_m 40 → 90.5 take out",
      "net: casts no → yes take out",
    ]);
    fireEvent.click(trial.getByRole("button", { name: "Measure all 2 at quay" }));
    expect(
      await trial.findByText(
        /4.46 % of the frame changes visibly. Nothing was saved. Set at target handheld, which overrides the project./,
      ),
    ).toBeTruthy();
    const posts = () => asked.filter((a) => a.method === "POST").map((a) => a.body);
    expect(posts()[0]).toEqual({
      edits: [
        { path: ["shadow", "reach_m"], value: 90.5 },
        { path: ["nodes", "net", "casts"], value: true },
      ],
      viewpoint: "quay",
      target: null,
    });
    fireEvent.change(trial.getByLabelText("Reason"), { target: { value: "seen from the quay" } });
    fireEvent.click(trial.getByRole("button", { name: "Keep as one change" }));
    await waitFor(() => expect(screen.queryByRole("form", { name: "Trial" })).toBeNull());
    expect(posts()[1]).toMatchObject({ change, reason: "seen from the quay" });
  });
  test("a value that was changed after it was measured is measured anew before it can be kept", async () => {
    await open({
      "POST /api/projects/3/builds/1/setup/trial": {
        title: "",
        unchanged: false,
        changed_share: 0.1,
        overridden_by: [],
        change: {},
      },
    });
    fireEvent.click(screen.getByRole("button", { name: "Try a value for shadow.reach_m" }));
    const value = screen.getByLabelText("Value of shadow.reach_m");
    fireEvent.change(value, { target: { value: "50" } });
    fireEvent.click(screen.getByRole("button", { name: "Measure it at quay" }));
    expect(await screen.findByRole("button", { name: "Keep as one change" })).toBeTruthy();
    fireEvent.change(value, { target: { value: "60" } });
    expect(screen.queryByRole("button", { name: "Keep as one change" })).toBeNull();
  });
  test("exceptions say which asset, what it would be otherwise, and why", async () => {
    await open();
    const row = screen.getByText("nets are thin").closest("tr") as HTMLTableRowElement;
    expect([...row.cells].map((c) => c.textContent?.trim()).slice(0, 4)).toEqual([
      "node net",
      "casts",
      "no",
      "yes",
    ]);
    const index = within(screen.getByRole("navigation", { name: "Sections" }));
    expect(index.getByText("exceptions").closest("a")?.textContent).toBe("exceptions1 set");
  });
});
