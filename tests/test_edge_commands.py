"""edges, overdraw and shadow-through as a user runs them."""

import json

import numpy as np
import pytest

from awning_scenes import SIZE, awning
from edge_scenes import LEAF, WHITE, codes, foliage, leaves_before, one_card, spray
from scenes import write_build

SMALL, MIDDLE = ("--size", "240x136"), ("--size", "480x270")


def told(run, path, *more):
    code, out, _ = run(path[0], path[1], "--viewpoint", "eye", *more, "--json", "-")
    return code, json.loads(out)


def test_midway_between_a_leaf_and_white_that_is_clear(run, tmp_path):
    """(.375 .4125 .365) where (.15 .225 .13) are due, CIEDE2000 18.3."""
    path = write_build(one_card([[codes(LEAF, 1), codes(WHITE, 0)]]), tmp_path)
    code, found = told(run, ("edges", path), "--size", "9x9", "--at", "4,4", "--picture", tmp_path / "rim.png")
    (card,) = found["materials"]
    assert code == 1 and card["holds"] is None and card["filtered"] == "straight" and card["averaged_px"] > 16
    assert card["at"]["drawn"] == pytest.approx([0.375, 0.4125, 0.365], abs=2e-3)
    assert card["at"]["due"] == pytest.approx([0.15, 0.225, 0.13], abs=2e-3)
    assert card["at"]["delta_e"] == pytest.approx(18.3, abs=0.15)
    assert (tmp_path / "rim.png").stat().st_size > 50
    code, out, _ = run("edges", path, "--viewpoint", "eye", "--size", "9x9", "--at", "4,4")
    assert "card at 4,4: 0.375" in out and "CIEDE2000 18." in out
    code, _, err = run("edges", path, "--viewpoint", "eye", "--size", "9x9", "--at", "9,4")
    assert code == 2 and "pixel 9,4 is outside the 9 x 9 frame" in err


def test_white_that_was_multiplied_as_codes(run, tmp_path):
    """.316 for .600: no blend takes colours that were multiplied before they are decoded."""
    ramp = np.zeros((16, 16, 4), np.uint8)
    ramp[...] = np.linspace(1, 255, 16).astype(np.uint8)[:, None, None]
    ramp[7:9] = 128
    path = write_build(one_card(ramp, blend="premultiplied"), tmp_path)
    code, found = told(run, ("edges", path), "--size", "9x9", "--at", "4,4")
    (card,) = found["materials"]
    assert code == 1 and card["holds"] == "premultiplied_codes" and card["read_as"] == "premultiplied"
    assert card["at"]["drawn"] == pytest.approx([0.316] * 3, abs=3e-3) and card["at"]["due"] == pytest.approx([0.6] * 3, abs=5e-3)


def test_foliage_by_level(run, tmp_path):
    code, found = told(run, ("edges", write_build(leaves_before(0.05, foliage(0.3), "MASK", z=-30.0), tmp_path)), *MIDDLE)
    (leaf,) = found["materials"]
    assert code == 1 and abs(leaf["drawn_px"] / leaf["due_px"] - 1) > 0.1 and {v["level"] for v in leaf["levels"]} >= {3}
    kept = write_build(leaves_before(0.05, foliage(0.3), "MASK", z=-30.0, coverage_kept=True), tmp_path, "kept")
    code, found = told(run, ("edges", kept), *MIDDLE)
    assert code == 0 and found["materials"][0]["drawn_px"] == pytest.approx(found["materials"][0]["due_px"], rel=0.1)


@pytest.mark.long
def test_spray_and_what_trimming_saves(run, tmp_path):
    """A disc of radius .8 m on a card of 2 m: an octagon saves 47.0 %, and a texel or two less."""
    path = write_build(spray(6, n=1024), tmp_path)
    code, found = told(run, ("overdraw", path), *SMALL)
    assert code == 0 and found["deepest"] == 6 and found["limit"] is None and len(found["laid"]) == 6
    assert found["idle"] == pytest.approx(1 - np.pi * 0.64 / 4, abs=0.05)
    assert all(v["trims"] == pytest.approx(0.470, abs=0.01) for v in found["laid"])
    code, out, _ = run("overdraw", write_build(spray(6, 0.1), tmp_path, "less"), "--viewpoint", "eye", *SMALL)
    assert code == 1 and "0.1 allowed" in out and "6 at the most" in out


def test_a_shadow_that_half_a_sheet_does_not_throw(run, tmp_path):
    """What light reaches through alpha .5 is a stop too bright without its shadow."""
    size = ("--size", f"{SIZE[0]}x{SIZE[1]}")
    path = write_build(awning(), tmp_path)
    code, out, _ = run("shadow-through", path, "--viewpoint", "eye", "--at", "48,27", *size, "--json", "-")
    (sheet,) = json.loads(out)["materials"]
    assert code == 1 and sheet["stops"] == pytest.approx(1.0, abs=1e-3) and sheet["at"] == pytest.approx(1.0, abs=1e-3)
    code, out, _ = run("shadow-through", write_build(awning("tinted"), tmp_path, "tinted"), "--viewpoint", "eye", *size)
    assert code == 0
    code, _, err = run("shadow-through", path, "--viewpoint", "eye", "--at", "96,27", *size)
    assert code == 2 and "outside the 96 x 54 frame" in err
