import { cleanup, fireEvent, render, screen, waitFor, within } from "@testing-library/react";
import { afterEach, describe, expect, test, vi } from "vitest";
import { App } from "../../../app/App";
import { around, serve } from "../../../testing";
import { said, shown } from "./words";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const HERE = "/api/projects/1/builds/1/deliveries/7";
const job = { id: 5, kind: "delivery", state: "done", progress: 1, message: "1 asked, 1 kept", attempts: 1 };
const edit = (key: string, fate: string, over: object = {}) => ({
  key,
  change: key,
  title: `edit ${key}`,
  path: `nodes.${key}.draw_rank`,
  to: [`nodes.${key}.draw_rank`],
  before: 0,
  yours: 4,
  delivered: 0,
  fate,
  why: `because of ${key}`,
  answer: null,
  ...over,
});
const result = (over: object = {}) => ({
  matches: [
    { kind: "node", old: ["gate"], new: ["gate_1", "gate_2"], state: "split", why: "two now", share: 1 },
  ],
  same: { mesh: 2, node: 1 },
  edits: [
    edit("pane", "kept"),
    edit("gate", "adapted", { to: ["nodes.gate_1.draw_rank", "nodes.gate_2.draw_rank"] }),
    edit("lamp", "asked", {
      path: "node.move lamp",
      to: ["lamp"],
      before: [0, 0, 0],
      delivered: [0.5, 0, 0],
    }),
  ],
  counts: { kept: 1, adapted: 1, asked: 1 },
  unanswered: ["lamp"],
  views: [
    { viewpoint: "quay", mean_de: 0.2, most_de: 3, differs: 0.05 },
    { viewpoint: "far", mean_de: 0.4, most_de: 5, differs: 0.2 },
    { viewpoint: "fresh", mean_de: null, most_de: null, differs: null },
  ],
  stale: [{ what: "lightmap of floor", why: "box changed" }],
  notes: [],
  stamp: "abc",
  ...over,
});
const delivery = (over: object = {}) => ({
  id: 7,
  scene: "second.glb",
  setup: null,
  job,
  accepted: null,
  behind: false,
  result: result(),
  ...over,
});

function open(answers: Record<string, unknown>) {
  const asked = serve({
    "GET /api/session": { username: "ana", demo: false, version: "1" },
    "GET /api/projects/1": {
      id: 1,
      name: "Quay",
      builds: 1,
      newest: 1,
      role: "lead",
      created: "2026-11-20T10:00:00Z",
    },
    "GET /api/projects/1/jobs": [],
    "GET /api/projects/1/builds/1": { status: 404, detail: "not looked at here" },
    ...answers,
  });
  render(<App />, { wrapper: ({ children }) => around({ children, at: "/p/1/b/1/intake/delivery/7" }) });
  return asked;
}

describe("a delivery", () => {
  test("tells what is asked first, and what each part is now", async () => {
    open({ [`GET ${HERE}`]: delivery() });
    await screen.findByRole("heading", { name: "second.glb: 1 asked, 1 adapted, 1 kept" });
    const rows = [...document.querySelectorAll("tr[data-edit]")].map((r) => r.getAttribute("data-edit"));
    expect(rows).toEqual(["lamp", "gate", "pane"]);
    expect(screen.getByText("now nodes.gate_1.draw_rank, nodes.gate_2.draw_rank")).toBeTruthy();
    expect(screen.queryByText("now lamp")).toBeNull();
    const parts = screen.getByLabelText("Parts");
    expect(parts.textContent).toContain("The same: 2 meshes, 1 node.");
    expect(parts.textContent).toContain("gate → gate_1 + gate_2");
    expect(screen.getByText("lightmap of floor")).toBeTruthy();
    expect(screen.getByText("1 edit is still asked.")).toBeTruthy();
    expect(screen.getByRole("button", { name: "Accept as a build" }).hasAttribute("disabled")).toBe(true);
  });

  test("is answered by keys, and rehearsed with the answers", async () => {
    const asked = open({ [`GET ${HERE}`]: delivery(), [`POST ${HERE}/answers`]: delivery() });
    const table = await screen.findByRole("table", { name: "Edits" });
    const row = document.querySelector("tr[data-edit=lamp]") as HTMLElement;
    fireEvent.keyDown(row, { key: "Enter" });
    expect(within(table).getByText("edit lamp: because of lamp.")).toBeTruthy();
    fireEvent.keyDown(row, { key: "d" });
    expect(row.textContent).toContain("asked: delivered");
    fireEvent.keyDown(row, { key: "ArrowDown" });
    expect(document.activeElement?.getAttribute("data-edit")).toBe("gate");
    fireEvent.keyDown(document.activeElement as HTMLElement, { key: "k" }); // it is not asked
    fireEvent.click(screen.getByRole("button", { name: "Rehearse with 1 answer" }));
    await waitFor(() =>
      expect(asked.find((a) => a.method === "POST")?.body).toEqual({ answers: { lamp: "delivered" } }),
    );
  });

  test("is accepted by the stamp of what is shown", async () => {
    const asked = open({
      [`GET ${HERE}`]: delivery({ result: result({ unanswered: [] }) }),
      [`POST ${HERE}/accept`]: { status: 409, detail: "it was rehearsed anew since you loaded it" },
    });
    fireEvent.click(await screen.findByRole("button", { name: "Accept as a build" }));
    expect(await screen.findByText("it was rehearsed anew since you loaded it")).toBeTruthy();
    expect(asked.find((a) => a.method === "POST")?.headers.get("If-Match")).toBe("abc");
  });

  test("shows the viewpoint that differs most, and the others by [ and ]", async () => {
    open({ [`GET ${HERE}`]: delivery() });
    const prints = await screen.findByLabelText("Frames before and after");
    expect(prints.textContent).toContain("far 20.0 % of it looks different, mean CIEDE2000 0.40");
    expect(within(prints).getByAltText("far before").getAttribute("src")).toBe(
      `${HERE}/frames/before/far?stamp=abc`,
    );
    fireEvent.keyDown(window, { key: "]" });
    expect(prints.textContent).toContain("fresh is new");
    expect(within(prints).queryByAltText("fresh before")).toBeNull();
  });

  test("says what failed, what the ledger left behind, and what it became", async () => {
    open({
      [`GET ${HERE}`]: delivery({ job: { ...job, state: "failed", message: "x.glb: no GLB" }, result: null }),
    });
    expect((await screen.findByRole("alert")).textContent).toContain("x.glb: no GLB");
    cleanup();
    open({ [`GET ${HERE}`]: delivery({ behind: true }) });
    expect(await screen.findByRole("button", { name: "Rehearse again" })).toBeTruthy();
    cleanup();
    open({ [`GET ${HERE}`]: delivery({ accepted: 2 }) });
    expect(await screen.findByRole("heading", { name: "second.glb, accepted as build 2" })).toBeTruthy();
    expect(screen.queryByRole("button", { name: "Let it go" })).toBeNull();
  });
});

test("values and counts in words", () => {
  expect([0.1 + 0.2, true, null, [1, 2], [], { a: 1 }, "x"].map(shown)).toEqual([
    "0.3",
    "yes",
    "–",
    "1, 2",
    "none",
    '{"a":1}',
    "x",
  ]);
  const edits = ["kept", "lost", "kept", "delivered", "asked"].map((fate) => ({
    fate,
    answer: null as unknown,
  }));
  expect(said(edits)).toBe("1 asked, 1 lost, 2 kept, 1 delivered alike");
  expect(said([{ fate: "asked", answer: "yours" }])).toBe("1 answered");
});
