import { act, cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import type { ReactNode } from "react";
import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";
import { App } from "../app/App";
import { around, serve } from "../testing";
import { OneOfMany, Picture } from "../ui/Picture";
import { Bring } from "./intake/Bring";

afterEach(() => {
  cleanup();
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

const me = { username: "ana", demo: false, version: "1" };
const quay = {
  id: 1,
  name: "Quay",
  builds: 0,
  newest: null,
  role: "lead",
  created: "2026-11-20T10:00:00Z",
  viewpoint: null,
  found: null,
  people: ["ana"],
  jobs: [],
};
const everyone = {
  "GET /api/session": me,
  "GET /api/projects": [quay],
  "GET /api/projects/1": quay,
  "GET /api/projects/1/jobs": [],
  "GET /api/projects/1/builds": [],
  "GET /api/projects/1/members": [{ username: "ana", role: "lead", invited: false }],
  "GET /api/invitations": [],
};
const open = (path: string, answers: Record<string, unknown> = {}) => {
  const asked = serve({ ...everyone, ...answers });
  render(<App />, {
    wrapper: ({ children }: { children?: ReactNode }) => around({ children, at: path }),
  });
  return asked;
};

describe("an invitation", () => {
  const invitation = {
    id: 7,
    project: "Pump hall",
    role: "artist",
    invited_by: "ben",
    created: "2026-11-20T10:00:00Z",
  };
  test("is accepted by who is invited", async () => {
    const asked = open("/", {
      "GET /api/invitations": [invitation],
      "POST /api/invitations/7": { ...quay, id: 2 },
    });
    expect(await screen.findByText("Pump hall")).toBeTruthy();
    expect(screen.getByText(", by ben")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Accept" }));
    await waitFor(() =>
      expect(asked.some((a) => a.method === "POST" && a.path === "/api/invitations/7")).toBe(true),
    );
  });
  test("is declined", async () => {
    const asked = open("/", { "GET /api/invitations": [invitation], "DELETE /api/invitations/7": {} });
    fireEvent.click(await screen.findByRole("button", { name: "Decline" }));
    await waitFor(() => expect(asked.some((a) => a.method === "DELETE")).toBe(true));
  });
  test("that is open is shown to leads and can be withdrawn", async () => {
    const members = [
      ...everyone["GET /api/projects/1/members"],
      { username: "cy", role: "viewer", invited: true },
    ];
    const asked = open("/p/1", {
      "GET /api/projects/1/members": members,
      "DELETE /api/projects/1/members/cy": {},
    });
    expect(await screen.findByText("invited as viewer, not yet accepted")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "withdraw cy" }));
    await waitFor(() => expect(asked.some((a) => a.path.endsWith("/members/cy"))).toBe(true));
  });
});

describe("one's own account", () => {
  const fill = (label: string, value: string) =>
    fireEvent.change(screen.getByLabelText(label), { target: { value } });
  test("gets another password, typed twice alike", async () => {
    const asked = open("/account", {
      "GET /api/session/events": [
        { at: "2026-11-20T10:00:00Z", who: "ana", what: "signed in", about: "from 10.0.0.7" },
      ],
      "POST /api/session/password": me,
    });
    expect(await screen.findByText("from 10.0.0.7")).toBeTruthy();
    fill("Password now", "old one here");
    fill("New password", "soundings");
    fill("New password once more", "sounding");
    expect(screen.getByText("The two new ones differ.")).toBeTruthy();
    expect((screen.getByRole("button", { name: "Change it" }) as HTMLButtonElement).disabled).toBe(true);
    fill("New password once more", "soundings");
    fireEvent.click(screen.getByRole("button", { name: "Change it" }));
    expect(await screen.findByText(/It is changed/)).toBeTruthy();
    expect(asked.find((a) => a.method === "POST")?.body).toEqual({ old: "old one here", new: "soundings" });
  });
  test("of the demo keeps its password", async () => {
    open("/account", { "GET /api/session": { ...me, demo: true }, "GET /api/session/events": [] });
    expect(await screen.findByText(/its password stays as it is/)).toBeTruthy();
    expect(screen.queryByLabelText("New password")).toBeNull();
  });
});

test("an address that looks like another host's leads to the projects, and not to a blank page", async () => {
  let known = false;
  open("//host.example/x", {
    "GET /api/session": () => (known ? me : { ...me, username: null }),
    "POST /api/session": () => {
      known = true;
      return me;
    },
  });
  fireEvent.change(await screen.findByLabelText("Name"), { target: { value: "ana" } });
  fireEvent.change(screen.getByLabelText("Password"), { target: { value: "sluice gate" } });
  fireEvent.click(screen.getByRole("button", { name: "Sign in" }));
  expect(await screen.findByRole("heading", { name: "Projects" })).toBeTruthy();
});

describe("a picture", () => {
  const pass = (ms: number) => act(() => vi.advanceTimersByTimeAsync(ms));
  beforeEach(() => {
    vi.useFakeTimers();
  });
  test("that could not be had is asked for again, later each time", async () => {
    render(<Picture src="/frame?width=480" alt="frame" />);
    const picture = screen.getByAltText("frame") as HTMLImageElement;
    const source = () => picture.getAttribute("src");
    fireEvent.error(picture);
    await pass(1100);
    expect(source()).toBe("/frame?width=480&again=1");
    fireEvent.error(picture);
    await pass(1100);
    expect(source()).toBe("/frame?width=480&again=1");
    await pass(1000);
    expect(source()).toBe("/frame?width=480&again=2");
  });
  test("of something else starts anew", async () => {
    const { rerender } = render(<Picture src="/one" alt="frame" />);
    fireEvent.error(screen.getByAltText("frame"));
    await pass(1100);
    rerender(<Picture src="/two" alt="frame" />);
    expect(screen.getByAltText("frame").getAttribute("src")).toBe("/two");
  });
});

test("many pictures are asked for two at a time, whether they come, fail or are no longer wanted", async () => {
  const names = ["a", "b", "c", "d", "e"];
  const page = (shown: string[]) => (
    <>
      {shown.map((n) => (
        <OneOfMany key={n} src={`/${n}`} alt={n} />
      ))}
    </>
  );
  const { rerender, unmount } = render(page(names));
  const asked = () => screen.getAllByRole("img").map((i) => i.getAttribute("alt"));
  expect(asked()).toEqual(["a", "b"]);
  fireEvent.load(screen.getByAltText("a"));
  expect(asked()).toEqual(["a", "b", "c"]);
  fireEvent.error(screen.getByAltText("b"));
  expect(asked()).toEqual(["a", "b", "c", "d"]);
  rerender(page(["a", "b", "d", "e"]));
  expect(asked()).toEqual(["a", "b", "d", "e"]);
  unmount();
  render(page(["f", "g", "h"]));
  expect(asked()).toEqual(["f", "g"]);
});

describe("bringing a build in", () => {
  /** An upload that the server answers with a job. */
  class Upload {
    upload: { onprogress?: (e: object) => void } = {};
    onload = () => {};
    status = 202;
    responseText = JSON.stringify({ id: 9, state: "waiting", progress: 0, message: "waiting", build: null });
    open() {}
    setRequestHeader() {}
    send() {
      this.upload.onprogress?.({ lengthComputable: true, loaded: 1, total: 1 });
      setTimeout(() => this.onload(), 0);
    }
  }
  const bring = (answers: object[]) => {
    vi.stubGlobal("XMLHttpRequest", Upload);
    serve({ "GET /api/projects/1/jobs/9": () => (answers.length > 1 ? answers.shift() : answers[0]) });
    render(<Bring project={1} />, {
      wrapper: ({ children }: { children?: ReactNode }) => around({ children, at: "/p/1" }),
    });
    const input = screen.getByLabelText("Scene and settings files");
    fireEvent.change(input, { target: { files: [new File(["x"], "quay.glb")] } });
    fireEvent.click(screen.getByRole("button", { name: "Bring it in" }));
  };
  const job = (over: object) => ({
    id: 9,
    state: "running",
    progress: 0.1,
    message: "",
    build: null,
    ...over,
  });
  test("follows its job and shows how far it is", async () => {
    bring([
      job({ message: "quay.glb: reading the scene" }),
      job({ message: "quay.glb: counting what is in it" }),
    ]);
    expect(await screen.findByText("quay.glb: reading the scene")).toBeTruthy();
    expect(await screen.findByText("quay.glb: counting what is in it")).toBeTruthy();
  });
  test("says in the job's words why it failed", async () => {
    bring([job({ state: "failed", message: "quay.glb: the GLB is cut off in its header" })]);
    expect(await screen.findByText("quay.glb: the GLB is cut off in its header")).toBeTruthy();
  });
});
