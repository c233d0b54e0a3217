import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { act, cleanup, render, renderHook, screen } from "@testing-library/react";
import type { ReactNode } from "react";
import { MemoryRouter } from "react-router";
import { afterEach, expect, test, vi } from "vitest";
import { client, must, Refusal, type Sweep } from "../api/client";
import { useAsk, useWrite } from "../api/writes";
import { part } from "../testing/part";
import { Patch } from "./ledger/Patch";
import { type Form, meaning, read, show } from "./setup/values";
import { Findings } from "./sweep/Findings";
import { Tide } from "./sweep/Tide";

afterEach(cleanup);

function around({ children }: { children: ReactNode }) {
  return (
    <QueryClientProvider client={new QueryClient()}>
      <MemoryRouter>{children}</MemoryRouter>
    </QueryClientProvider>
  );
}

const finding = {
  code: "depth.missing-prepass",
  what: "Solid things fade",
  title: "nets fade",
  severity: "blocking",
  impact: { kind: "measured", share: 0.044, mean_share: 0.01, viewpoint: "quay", why: "" },
  cause: "net",
  subjects: ["net"],
  pixels: { quay: 100 },
  evidence: [{ measure: "distance", value: 73, unit: "m", limit: 0, source: "", predicted: false }],
  remedies: [
    {
      title: "write depth",
      verdict: "cures",
      scope: "shader",
      predicts: "",
      costs: [],
      side_effects: [],
      warnings: [],
      collateral_share: 0,
      new_findings: [],
    },
  ],
  seen_in: [
    { role: "edit", seen: false, leaf: "depth.copy_from", play_value: "prepass", role_value: "opaque" },
  ],
};

const sweep = (over: Partial<Sweep>): Sweep =>
  part<Sweep>({
    id: 1,
    target: null,
    head_version: 1,
    created: "",
    findings: 1,
    job: {},
    left_out: [],
    gone: [],
    items: [],
    codes: [
      { code: "depth.missing-prepass", words: "Solid things fade" },
      { code: "uv.overlap", words: "Shared texels" },
    ],
    tide: [
      {
        viewpoint: "quay",
        cells: { "depth.missing-prepass": { share: 0.042, severity: "blocking", findings: ["x"] } },
      },
    ],
    ...over,
  });

test("only exposure is a thin outline without a number, and no impact is no mark", () => {
  const cells: Sweep["tide"][number]["cells"] = {
    depth: { share: 0.00003, exposed: false, severity: "visible", findings: ["a"] },
    uv: { share: 0, exposed: true, severity: "visible", findings: ["b"] },
  };
  const codes = ["depth", "uv", "bake"].map((code) => ({ code, words: code }));
  render(<Tide project={1} build={1} sweep={sweep({ codes, tide: [{ viewpoint: "quay", cells }] })} />);
  expect(screen.getByRole("img", { name: /^visible, .* of the frame$/ }).textContent).toMatch(/^< 0\.01/);
  expect(screen.getByRole("img", { name: "visible, shown here, not measured" }).textContent).toBe("");
  expect(screen.getAllByRole("img", { name: /visible|latent|blocking/ })).toHaveLength(2);
});

test("a what-if asks for nothing anew, a write for all but what is fixed, a refused one for nothing", async () => {
  const queries = new QueryClient();
  const stale = (name: string) => queries.getQueryState([name])?.isInvalidated;
  const fresh = () => ["build", "symptoms"].forEach((name) => void queries.setQueryData([name], 1));
  const wrapper = ({ children }: { children: ReactNode }) => (
    <QueryClientProvider client={queries}>{children}</QueryClientProvider>
  );
  const ask = renderHook(() => useAsk(async () => 1), { wrapper });
  const write = renderHook(() => useWrite(async () => 1), { wrapper });
  const refused = renderHook(() => useWrite(() => Promise.reject(new Refusal(422, "no"))), {
    wrapper,
  });
  fresh();
  await act(() => ask.result.current.mutateAsync(undefined));
  await act(() => refused.result.current.mutateAsync(undefined).catch(() => undefined));
  expect([stale("build"), stale("symptoms")]).toEqual([false, false]);
  await act(() => write.result.current.mutateAsync(undefined));
  expect([stale("build"), stale("symptoms")]).toEqual([true, false]);
});

test("a tide mark says its severity and share in words", () => {
  render(<Tide project={1} build={1} sweep={sweep({})} />);
  expect(screen.getAllByRole("img", { name: "blocking, 4.20\u202f% of the frame" })).toHaveLength(1);
  expect(screen.getAllByRole("columnheader").map((h) => h.textContent)).toEqual([
    "Viewpoint",
    "depth.missing-prepass",
    "uv.overlap",
  ]);
});

test("a finding tells its number, what is new, what hides it, and what is gone", () => {
  const items = [
    { id: 5, fingerprint: "x", standing: "new", case: null, has_picture: false, document: finding },
  ];
  render(
    <Findings
      project={1}
      build={1}
      sweep={sweep({ items: items as never, gone: [{ code: "uv.overlap", title: "rail" }] })}
    />,
    { wrapper: around },
  );
  const line = screen.getByRole("list", { name: "Findings by impact" }).textContent;
  expect(line).toContain("4.40\u202f%");
  expect(line).toContain("distance: 73\u202fm");
  expect(line).toContain("Hidden in role edit: depth.copy_from is opaque there, prepass in play.");
  expect(screen.getByText("new")).toBeTruthy();
  expect(screen.getByText(/✓ rail/)).toBeTruthy();
  expect(screen.getByRole("button", { name: "Open case" })).toBeTruthy();
});

test("a clean sweep says so", () => {
  render(<Findings project={1} build={1} sweep={sweep({})} />, { wrapper: around });
  expect(screen.getByRole("heading", { name: "Clean" })).toBeTruthy();
});

test("a patch is shown as hunks with the value before", () => {
  const patch = [
    { op: "test", path: "/shaders/net/passes/depth", value: false },
    { op: "replace", path: "/shaders/net/passes/depth", value: true },
    { op: "add", path: "/fog/enabled", value: false },
  ];
  render(<Patch patch={patch} />);
  expect(screen.getByRole("heading").textContent).toBe("Patch preview 2 hunks");
  const [first, second] = screen.getAllByRole("listitem").map((l) => l.textContent);
  expect(first).toBe("/shaders/net/passes/depth- false+ true");
  expect(second).toBe("/fog/enabled+ false");
});

test("values are written and read as people write them", () => {
  const form = (kind: Form["kind"], optional = false): Form => ({ kind, optional, choices: [], limits: "" });
  expect(read("0.5", form("number"))).toBe(0.5);
  expect(read("none", form("number", true))).toBeNull();
  expect(read("much", form("number"))).toBe("much"); // refused by the server, in its words
  expect([read("yes", form("yes_no")), read("no", form("yes_no"))]).toEqual([true, false]);
  expect(read("1, 2 .5", form("numbers"))).toEqual([1, 2, 0.5]);
  expect(read("opaque", form("choice"))).toBe("opaque");
  expect([show(null), show(true), show([1, 0.25]), show("opaque")]).toEqual([
    "none",
    "yes",
    "1 0.25",
    "opaque",
  ]);
  expect(meaning("far plane; null is infinitely far")).toBe("far plane; none is infinitely far");
});

test("what the server refuses comes in its own words, with both sides of a conflict", async () => {
  vi.stubGlobal(
    "fetch",
    async () =>
      new Response(JSON.stringify({ detail: "someone wrote first", current: { version: 3 } }), {
        status: 409,
      }),
  );
  const refused = await must(client.GET("/api/projects")).catch((e) => e);
  expect(refused).toBeInstanceOf(Refusal);
  expect([refused.status, refused.message, refused.body.current]).toEqual([
    409,
    "someone wrote first",
    { version: 3 },
  ]);
});

test("a server that does not answer is told as that", async () => {
  vi.stubGlobal("fetch", async () => Promise.reject(new TypeError("down")));
  const refused = await must(client.GET("/api/projects")).catch((e) => e);
  expect([refused.status, refused.message.includes("does not answer")]).toEqual([0, true]);
});
