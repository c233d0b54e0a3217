"""glass and plates as a user runs them."""

import json

import pytest

from glass_scenes import behind_panes, clear, pane, pane_and_mist, slab_at_45, two_panes
from layer_scenes import mist_and_cutter
from scenes import write_build

SMALL = ("--size", "240x136")


def test_two_panes_and_the_one_that_is_lost(run, tmp_path):
    """.9216 of one, .8493 of both: dropping one is 8.5 % too bright, in all pixels in which the two overlap."""
    path = write_build(two_panes(), tmp_path)
    code, out, _ = run("glass", path, "--viewpoint", "eye", *SMALL, "--json", "-", "--picture", tmp_path / "lost.png")
    found = json.loads(out)
    (one,) = found["lost"]
    assert code == 1 and found["panes"] == ["near_pane", "far_pane"] and found["layers"] == 1
    assert (one["drawable"], one["panes"], one["how"]) == ("far_pane", ["near_pane"], "in no copy")
    assert one["pixels"] == one["all_pixels"] > 7000 and one["brighter"] == pytest.approx(0.085, abs=1e-3)
    assert (tmp_path / "lost.png").stat().st_size > 500
    code, out, _ = run("glass", write_build(two_panes({"layers": 2}), tmp_path, "two"), "--viewpoint", "eye", *SMALL)
    assert code == 0 and "2 deep" in out


def test_the_chain_at_a_pixel(run, tmp_path):
    path = write_build(two_panes({"enabled": False}, materials={"near glass": {"transmits": "none"}}), tmp_path)
    code, out, _ = run("glass", path, "--viewpoint", "eye", "--at", "120,68", *SMALL)
    assert code == 1 and "first broken: material, next to break: project" in out
    code, out, _ = run("glass", path, "--viewpoint", "eye", *SMALL)
    assert code == 1 and "near glass lets no light through" in out and "material, project" in out
    code, out, _ = run("glass", path, "--viewpoint", "eye", "--at", "120,68", *SMALL, "--json", "-")
    found = json.loads(out)
    assert found["measured"] == [0, 0, 0] and found["due"][0] == pytest.approx(0.923077, abs=1e-5)
    (material,) = [link for link in found["links"] if link["name"] == "material"]
    assert material["fix"] and material["change"]["patch"][-1]["value"] == "thin"
    code, out, _ = run(
        "glass", write_build(slab_at_45(), tmp_path, "slab"), "--viewpoint", "eye", "--at", "960,540", "--size", "1920x1080"
    )
    assert code == 0 and "reads the copy 1.530 px off" in out and "shifted by 0.256 px" in out


def test_mist_that_a_pane_hides(run, tmp_path):
    code, out, _ = run("glass", write_build(pane_and_mist(), tmp_path), "--viewpoint", "eye", *SMALL)
    assert code == 1 and "mist" in out and "hidden by its depth" in out


@pytest.mark.parametrize(("at", "keeps", "lays"), [(1, 0.85, 0.12), (-1, 0.50, 0.40)])
def test_plates_behind_the_mist_and_what_cuts_it(run, tmp_path, at, keeps, lays):
    """Before plates of 0 and 1 the two show .12 and .97 in their right order, .40 and .90 in the wrong one."""
    path = write_build(mist_and_cutter(at), tmp_path)
    x = 480 + round((1.125 - at) / 3.8 * 270 / 0.5205670505517458)
    args = ("--viewpoint", "eye", "--subject", "mist", "--subject", "cutter", "--at", f"{x},270", "--json", "-")
    code, out, _ = run("plates", path, *args)
    found = json.loads(out)
    assert code == 0 and found["acts_as"] == "blended"
    assert found["k_at"][0] == pytest.approx(keeps, abs=1e-5) and found["b_at"][0] == pytest.approx(lays, abs=1e-5)


def test_what_takes_part_in_what(run, tmp_path):
    fog = {"fog": {"enabled": True, "fog_per_m": 0.03}, "depth": {"copy_from": "opaque"}}
    code, out, _ = run(
        "pass-table", write_build(behind_panes(pane("pane", -2.0, clear()), **fog), tmp_path), "--viewpoint", "eye"
    )
    assert code == 1 and "clear, fog: mismatched (fogged as what is behind it)" in out and "!" not in out
    code, out, _ = run("pass-table", write_build(mist_and_cutter(), tmp_path, "mist"), "--viewpoint", "eye", "--json", "-")
    found = json.loads(out)
    assert code == 0 and found["disagreements"] == 0 and [r["material"] for r in found["rows"]] == ["backdrop", "mist", "cutter"]


@pytest.mark.parametrize(
    ("command", "args", "says"),
    [
        ("glass", ("--at", "5,5"), "nothing that is meant to let light through lies at pixel 5,5"),
        ("glass", ("--at", "500,5"), "outside the 240 x 136 frame"),
        ("glass", ("--at", "120,68", "--subject", "none"), "none does not lie at"),
        ("glass", ("--subject", "pane"), "belongs to --at"),
        ("glass", ("--at", "120,68", "--picture", "f.png"), "leave --at out"),
        ("plates", ("--subject", "none"), "there is no 'none'"),
        ("plates", ("--subject", "pane", "--at", "240,0"), "outside the 240 x 136 frame"),
    ],
)
def test_what_makes_no_sense_is_one_line(run, tmp_path, command, args, says):
    path = write_build(behind_panes(pane("pane", -2.0, clear())), tmp_path)
    code, _, error = run(command, path, "--viewpoint", "eye", *SMALL, *args)
    assert code == 2 and says in error and error.count("\n") == 1
