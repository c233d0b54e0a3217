"""The Light and colour sheet as it is used: a frame held against its reference, by mouse and by keys, beside the command line's numbers."""

import re
from dataclasses import replace

import pytest

from browser_helpers import barriers, bring, command_line, fits_in_every_way, hand_over, sweep_to_the_end
from eddyfall.core.scene.model import Material
from eddyfall.core.scene.setup import normalised
from eddyfall.demo.shapes import Shape
from light_rooms import mirror_room, shining_hall
from scenes import Thing, build_of, write_build


def yard():
    """A box on a floor whose shadow the reach does not hold, from two sides."""
    matt = {"metallic": 0.0, "ior": 1.0}
    view = {"eye": [1.5, 2.5, 3.5], "target": [0.3, 0.3, 0], "fov_y_deg": 45}
    return build_of(
        Thing("floor", Shape().quad((-20, 0, 20), (40, 0, 0), (0, 0, -40)), Material("floor", (0.6, 0.5, 0.4, 1), **matt)),
        Thing("box", Shape().box((-0.5, 0, -0.5), (0.5, 1.0, 0.5)), Material("box", (0.3, 0.5, 0.7, 1), **matt)),
        setup={
            "viewpoints": {"gate": view, "wall": {**view, "eye": [-2.5, 2.0, 3.0]}}, "sky": {"ambient": False},
            "shadow": {"reach_m": 0.5, "resolution": 4096, "cascades": 1, "filter_px": 1, "bias_texels": 1.0},
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 30.0, "towards": [-0.5, 0.8, 0.3]}},
            "exposure": {"mode": "fixed", "ev100": 4},
        },
    )  # fmt: skip


def drawn(page):
    page.wait_for_function("() => [...document.querySelectorAll('[data-testid=compared] img')].every(i => i.naturalWidth > 0)")


def test_a_frame_is_held_against_its_reference_whole_and_in_a_region(page, tmp_path):
    path = write_build(yard(), tmp_path, "yard")
    bring(page, "Light", path, path.with_suffix(".setup.json"))
    page.get_by_role("link", name="Light and colour", exact=True).click()
    page.get_by_role("button", name="Four times the samples").wait_for(timeout=240_000)
    drawn(page)
    shown = page.get_by_role("status").inner_text()
    samples = int(re.search(r"at (\d+) samples", shown)[1])
    ways = ("--viewpoint", "gate", "--size", "240x135", "--samples", str(samples))
    _, account = command_line("compare", path, *ways)
    light = next(row for row in account["lights"] if row["light"] == "sun")
    row = page.get_by_test_id("lights").get_by_role("row", name=re.compile("^sun"))
    assert [float(v) for v in re.findall(r"\d+\.\d+", row.inner_text())] == [
        float(f"{light[k]:.3g}") for k in ("standin", "reference")
    ]
    # The box's shadow alone: dragged over, by a mouse.
    box = page.get_by_test_id("compared").bounding_box()
    at = lambda x, y: (box["x"] + box["width"] * x / 960, box["y"] + box["height"] * y / 540)  # noqa: E731
    page.mouse.move(*at(530, 240))
    page.mouse.down()
    page.mouse.move(*at(610, 350), steps=4)
    page.mouse.up()
    page.get_by_role("heading", name=re.compile(r"A part of gate is \d\.\d\d stops too bright, most of it in shadow")).wait_for()
    assert "region=" in page.url
    page.get_by_role("button", name="Show what is off").click()
    drawn(page)
    fits_in_every_way(page)
    page.get_by_role("button", name="Show both").click()
    # And by keys: the whole frame, the wipe, the next viewpoint.
    page.get_by_role("heading", name=re.compile("A part")).click()
    page.keyboard.press("Escape")
    page.get_by_role("heading", name=re.compile("^gate ")).wait_for()
    page.keyboard.press("ArrowRight")
    assert page.get_by_role("slider", name="wipe").get_attribute("aria-valuenow") == "52"
    page.keyboard.press(".")
    page.get_by_role("heading", name=re.compile("^wall ")).wait_for(timeout=60_000)
    drawn(page)
    assert barriers(page) == []


@pytest.mark.long
def test_light_from_beside_the_frame_is_found_told_and_cured_by_a_margin_to_the_hand_over(page, tmp_path):
    """From the sweep to the sheet, to what no dial finds, to the margin that holds it, kept, proved, handed over."""
    wall = {"eye": [1.5, 1.6, 6.0], "target": [3.0, 0.0, 6.0]}
    walk = {"keys": {"a": {"t_s": 0, "viewpoint": "near"}, "b": {"t_s": 1, **wall}}, "rate_hz": 5}
    build = shining_hall(bounce={"enabled": True, "steps": 64}, depth={"copy_from": "opaque"}, moves={"walk": walk})
    views = {"near": build.setup.viewpoints["near"]}
    setup = build.setup.model_copy(update={"viewpoints": views})
    path = write_build(replace(build, setup=setup, raw_setup=normalised(setup)), tmp_path, "hall")
    project = bring(page, "Hall", path, path.with_suffix(".setup.json"))
    page.get_by_role("link", name="Sweep", exact=True).click()
    sweep_to_the_end(page)
    page.get_by_text(re.compile(r"floor loses \d\.\d\d stops of bounced light at near, most of it off the frame")).wait_for()
    page.get_by_role("list", name="Findings by impact").get_by_role("link", name="Light and colour").click()
    page.get_by_role("button", name="Follow it from the frame").click()
    found = page.get_by_test_id("answer-bounce")
    found.wait_for(timeout=60_000)
    _, said = command_line("where-light", path, "--viewpoint", "near", "--samples", "32")
    (answer,) = said["answers"]
    missed = next(row["missed"] for row in answer["classes"] if row["where"] == "off the frame")
    assert f"{missed:.3g} nit" in found.get_by_role("row", name=re.compile("^off the frame")).inner_text()
    assert "bounce: bounce" in page.get_by_test_id("held").inner_text() and barriers(page) == []
    _goes_along_the_walk(page, path)
    page.goto(f"/p/{project}/b/1/sweep")
    page.get_by_role("button", name="Open case").first.click()
    page.get_by_role("button", name=re.compile("bounce with a margin of")).click()
    page.get_by_role("button", name="Keep this fix").click()
    page.get_by_text("1 kept").wait_for()
    page.get_by_role("button", name="Prove it everywhere").click()
    page.get_by_text("✓ Proved").wait_for(timeout=240_000)
    page.get_by_role("link", name="Ledger", exact=True).click()
    hand_over(page, tmp_path / "out")
    assert command_line("sweep", tmp_path / "out" / "hall.glb")[0] == 0


def _goes_along_the_walk(page, path):
    """Up to the wall on the tide gauge, by keys, beside the command line's numbers; what is lost ends up behind the camera."""
    page.get_by_role("button", name="Look along it").click()
    rows = page.get_by_test_id("moments").get_by_role("row")
    _, said = command_line("moves", path, "--move", "walk")
    drawn = [m for m in said["moments"] if m["measured"] is not None]
    rows.nth(len(drawn)).wait_for(timeout=240_000)
    page.get_by_test_id("moments").get_by_text("the worst to come").wait_for(state="detached", timeout=240_000)
    assert rows.count() == len(drawn) + 1 and f"{drawn[-1]['measured']:.3g} nit" in rows.last.inner_text()
    page.get_by_role("heading", name=f"It drifts by {said['measured_drift']:.2f} stops along walk").click()
    assert said["cause"] == "behind the camera" and "✓ within the limit" in page.get_by_test_id("helps").inner_text()
    says = page.get_by_role("status", name="At this moment")
    page.keyboard.press("ArrowRight")
    assert says.inner_text().startswith("0.20 s: due")
    page.keyboard.press("n")
    (first, _), *_ = [span for span in said["exceeds"] if span[0] > 0.2] or said["exceeds"]
    assert says.inner_text().startswith(f"{first:.2f} s")
    page.get_by_text(f"as drawn, {first:.2f} s").wait_for(timeout=60_000)
    assert barriers(page) == []
    page.keyboard.press("Enter")
    page.wait_for_url(re.compile(r"/bench/\d+$"))
    assert page.get_by_label("Symptom").input_value() == "drifts while moving"


@pytest.mark.long
def test_a_door_behind_the_eye_is_mirrored_by_a_probe_from_the_sweep_to_the_hand_over(page, tmp_path):
    """What no dial finds: a probe is placed where the sweep proposes it, kept, proved, held against what is there, and handed over."""
    build = mirror_room(depth={"copy_from": "opaque"}, reflect={"enabled": True})
    path = write_build(build, tmp_path, "room")
    project = bring(page, "Room", path, path.with_suffix(".setup.json"))
    page.get_by_role("link", name="Sweep", exact=True).click()
    sweep_to_the_end(page)
    page.get_by_text(re.compile(r"panel loses .* its reflection at eye, most of it behind the camera")).wait_for()
    page.get_by_role("button", name="Open case").first.click()
    page.get_by_role("button", name=re.compile("a reflection probe in the room of panel")).click()
    page.get_by_role("button", name="Keep this fix").click()
    page.get_by_text("1 kept").wait_for()
    page.get_by_role("button", name="Prove it everywhere").click()
    page.get_by_text("✓ Proved").wait_for(timeout=240_000)
    page.goto(f"/p/{project}/b/1/light?from=eye")
    page.get_by_role("button", name="Hold them against what is there").click()
    page.get_by_test_id("probes").get_by_text("✓ fits").wait_for(timeout=60_000)
    assert page.get_by_test_id("probe-plan").get_attribute("aria-label") == "Plan of probe room: fits"
    assert barriers(page) == []
    page.get_by_role("link", name="Ledger", exact=True).click()
    hand_over(page, tmp_path / "out")
    assert command_line("sweep", tmp_path / "out" / "room.glb")[0] == 0
    code, said = command_line("probes", tmp_path / "out" / "room.glb")
    assert code == 0 and said["probes"][0]["fits"][0]["why"] == []
