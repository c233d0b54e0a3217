import { cleanup, render, screen, within } from "@testing-library/react";
import { afterEach, expect, test } from "vitest";
import type { Sweep } from "../../api/client";
import { part } from "../../testing/part";
import { Underway } from "./Underway";

afterEach(cleanup);

type Found = Sweep["underway"][number];
const found = (over: Partial<Found>): Found =>
  part<Found>({
    fingerprint: "a",
    title: "nets are see-through",
    what: "Solid things fade",
    proved: false,
    severity: null,
    impact: null,
    remedy: null,
    ...over,
  });

test("what is only measured says so, and what is proved says its impact and remedy", () => {
  const impact = { kind: "measured", share: 0.062, viewpoint: "quay" } as Found["impact"];
  const proved = found({
    fingerprint: "b",
    title: "a deck fights",
    proved: true,
    severity: "blocking",
    impact,
    remedy: "lift it",
  });
  render(<Underway found={[found({}), proved]} />);
  expect(screen.getByRole("heading").textContent).toMatch(/^Found so far: 2 1 of them proved/);
  const [first, second] = screen.getAllByRole("listitem") as [HTMLElement, HTMLElement];
  expect(within(first).getByText("measured; remedies are being tried")).toBeTruthy();
  expect(second.textContent).toMatch(/Remedy: lift it\.proved: 6\.2/);
});

test("nothing found yet is nothing shown", () => {
  render(<Underway found={[]} />);
  expect(screen.queryByRole("heading")).toBeNull();
});
