"""The guide's recipe of a sheet, run: a folder and a line in the registry, and header, address and key help have it."""

import re
import shutil
import subprocess
from pathlib import Path

import pytest

from guide import recipe

WEB = Path(__file__).parents[1] / "web"
TEST = """
import { render, screen, within } from "@testing-library/react";
import { expect, test } from "vitest";
import { App } from "./app/App";
import { around, serve } from "./testing";

test("the toy sheet", async () => {
  serve({
    "GET /api/session": { username: "ana", demo: false, version: "1" },
    "GET /api/projects/3": { name: "Weirgate quay" },
    "GET /api/projects/3/jobs": [],
    "GET /api/projects/3/builds/1": { number: 1, kept: 0 },
  });
  render(around({ at: "/p/3/b/1/toybox", children: <App /> }));
  expect((await screen.findByRole("heading", { name: "Toybox" })).tagName).toBe("H1");
  const sheets = within(screen.getByRole("navigation", { name: "Sheets" })).getAllByRole("link").map((s) => s.textContent);
  expect(sheets).toEqual(["Intake", "Set-up", "Sweep", "Bench", "Lightmaps", "Draw order", "Shadow reach", "Light and colour",
    "Toybox", "Ledger"]);
  expect(document.querySelector("dialog[aria-label=Keys]")?.textContent).toContain("tidy up");
});
"""


@pytest.mark.skipif(shutil.which("npx") is None, reason="there is no Node here")
def test_a_sheet_is_a_folder_and_a_line(tmp_path):
    web = tmp_path / "web"
    shutil.copytree(WEB, web, ignore=shutil.ignore_patterns("node_modules", "dist"))
    (web / "node_modules").symlink_to(WEB / "node_modules")
    (web / "src/sheets/toybox").mkdir()
    (web / "src/sheets/toybox/sheet.tsx").write_text(recipe("tsx sheet"))
    registry = web / "src/sheets/registry.ts"
    text = re.sub(r"LEDGER,?\s*\]", "TOYBOX, LEDGER]", registry.read_text())
    registry.write_text('import { TOYBOX } from "./toybox/sheet";\n' + text)
    (web / "src/toybox.test.tsx").write_text(TEST)
    for command in (["tsc", "--noEmit"], ["vitest", "run", "src/toybox.test.tsx"]):
        done = subprocess.run(["npx", "--no-install", *command], cwd=web, capture_output=True, text=True)
        assert done.returncode == 0, (done.stdout + done.stderr)[-3000:]
