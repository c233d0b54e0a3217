"""The commands about blended layers as a user runs them: exit codes, JSON keys, one-line errors."""

import json

import numpy as np
import pytest
from PIL import Image as Png

from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Image, Material, TextureUse
from layer_scenes import EXACT, card, mist_and_cutter, two_sheets, unlit
from scenes import build_of, write_build

KEYS = {"a": {"t_s": 0, "viewpoint": "left"}, "b": {"t_s": 3, "viewpoint": "right"}}
VIEWS = {
    n: {"eye": [x, 1.6, 0.0], "target": [x, 1.6, -1.0], "fov_y_deg": 55} for n, x in (("left", -3), ("at", -0.27), ("right", 3))
}


@pytest.fixture(scope="module")
def file(tmp_path_factory):
    pane = card("pane", (-2.5, 1.5), (0.5, 2.5), -2.0, unlit("pane", 0.6, 0.1))
    build = mist_and_cutter(more=(pane,), viewpoints=VIEWS, moves={"walk": {"keys": KEYS}})
    return write_build(build, tmp_path_factory.mktemp("layers"))


def test_the_order_of_a_frame_is_told_with_the_pairs_that_are_off(run, file, tmp_path):
    code, out, _ = run("order", file, "--viewpoint", "at", "--json", "-", "--picture", tmp_path / "f.png")
    found = json.loads(out)
    assert code == 1 and found["order"] == ["cutter", "mist", "pane"] and found["key"] == "range"
    (pair,) = found["pairs"]
    assert (pair["early"], pair["late"]) == ("cutter", "mist") and pair["pixels"] == pytest.approx(17_928, rel=0.01)
    assert found["off_px"] == pair["pixels"]
    true = np.asarray(Png.open(tmp_path / "f.png"))
    assert true.shape == (540, 960, 3) and len(np.unique(true[..., 0])) > 3
    assert run("order", file, "--viewpoint", "right")[0] == 0
    assert run("order", file, "--viewpoint", "at", "--picture", file)[0] == 2, "an input is never written over"


def test_the_layers_of_a_pixel_add_up_in_both_orders(run, file):
    code, out, _ = run("order", file, "--viewpoint", "at", "--at", "640,270", "--json", "-")
    found = json.loads(out)
    assert code == 1 and [s["drawable"] for s in found["strata"]] == ["cutter", "mist", "pane"] and found["true"] == [1, 0, 2]
    assert [s["place"] for s in found["strata"]] == ["too early", "too late", "in place"]
    for of, key in (("drawn", "share"), ("due", "true_share")):
        total = np.sum([s[key] for s in found["strata"]], axis=0)
        kept = np.prod([s["keep"] for s in found["strata"]], axis=0)
        assert total + kept * found["opaque"] == pytest.approx(found[of], abs=1e-6)
    # .29 and .50 seen through the pane of one tenth: .9 of them and .06.
    assert found["due"][0] == pytest.approx(0.9 * 0.29 + 0.06, abs=1e-5) and found["drawn"][0] == pytest.approx(0.51, abs=1e-5)
    said = run("order", file, "--viewpoint", "at", "--at", "640,270")[1]
    assert "too early: mist" in said and "0.321" in said
    assert run("order", file, "--viewpoint", "at", "--at", "960,0")[0] == 2


@pytest.mark.long
def test_a_walk_is_told_with_where_it_pops_and_the_map_with_its_line(run, file):
    code, out, _ = run("order", file, "--move", "walk", "--json", "-")
    found = json.loads(out)
    pop = max(found["pops"], key=lambda p: p["pixels"])
    assert code == 1 and (pop["first"], pop["second"], pop["turn"]) == ("cutter", "mist", "wrong to right")
    assert pop["eye"][0] == pytest.approx(-0.2633, abs=1e-4) and pop["pixels"] == pytest.approx(17_928, rel=0.01)
    lanes = {lane["drawable"]: lane["turns"] for lane in found["lanes"]}
    assert lanes["cutter"][0] == 0 and lanes["mist"][0] == 1 and lanes["mist"][-1] == 0 and lanes["pane"][0] == 2
    assert len(found["t_s"]) == len(found["eyes"]) == len(lanes["mist"])
    assert any(p["late"] == "mist" for look in found["looks"] if look["t_s"] < 1.3 for p in look["pairs"])
    code, out, _ = run("flip-map", file, "--json", "-")
    (line,) = json.loads(out)[0]["lines"]
    x, z, c = line["floor"]
    assert code == 1 and (x / c, z / c) == pytest.approx((1.5 / -0.395, 0.4 / -0.395), abs=1e-3)
    assert "x + " in run("flip-map", file)[1]
    still = run("order", file, "--move", "sway", "--viewpoint", "right", "--json", "-")
    assert still[0] == 0 and json.loads(still[1])["pops"] == []


def test_on_a_floor_the_range_is_wrong_left_of_the_line_between_two(run, tmp_path):
    """On x, z within 3 m of (0, 0) range draws the cutter first left of 1.5 x + .4 z = -.395, on 45.6 %, though it is the nearer wherever
    the two overlap; 1.377 m is the least shift that ends that."""
    path = write_build(mist_and_cutter(), tmp_path)
    code, out, _ = run("flip-map", path, "--floor=-3,-3,3,3", "--json", "-")
    (pair,) = json.loads(out)["pairs"]
    assert code == 1 and (pair["first"], pair["second"]) == ("mist", "cutter") and 33 < pair["over_m2"] < 36
    assert 1 - pair["first_drawn_m2"] / 36 == pytest.approx(0.456, abs=0.002)
    assert 0.85 < pair["wrong_m2"] / (36 - pair["first_drawn_m2"]) < 1
    for shift, whole in ((1.377, True), (1.30, False)):
        shifted = write_build(mist_and_cutter(nodes={"mist": {"key_shift_m": shift}}), tmp_path, f"shifted {shift}")
        (pair,) = json.loads(run("flip-map", shifted, "--floor=-3,-3,3,3", "--json", "-")[1])["pairs"]
        assert (pair["first_drawn_m2"] == pytest.approx(36)) == whole and pair["wrong_m2"] < 0.1
    # A rank is right from before both, and wrong behind the mist: from z < -4 on, not between, where nothing lies before the other.
    ranked = write_build(mist_and_cutter(nodes={"cutter": {"draw_rank": 1}}), tmp_path, "ranked")
    (pair,) = json.loads(run("flip-map", ranked, "--floor=0.5,-6,1.5,-2", "--json", "-")[1])["pairs"]
    rows = ["x" in row for row in pair["cells"]]
    assert rows == [True] * 20 + [False] * 20
    assert run("flip-map", path)[0] == 2 and run("flip-map", path, "--floor=0,0,0,0")[0] == 2
    for floor in ("nan,0,1,1", "0,0,inf,1"):
        code, _, error = run("flip-map", path, f"--floor={floor}")
        assert code == 2 and "finite" in error and error.count("\n") == 1
    assert run("flip-map", path, "--height", "2")[0] == 2


def test_by_depth_along_the_view_there_is_a_heading_and_no_line(run, tmp_path):
    """f . (A - B) = 0 at atan(.4 / 1.5) = 14.93 degrees to the right of -z, wherever one stands."""
    keys = {"a": {"t_s": 0, "viewpoint": "eye"}, "b": {"t_s": 1, "eye": [0, 1.6, 0], "target": [0.6, 1.6, -1]}}
    path = write_build(mist_and_cutter(order={"key": "view_depth"}, moves={"turn": {"keys": keys}}), tmp_path)
    code, out, _ = run("flip-map", path, "--json", "-")
    (line,) = json.loads(out)[0]["lines"]
    assert code == 1 and line["floor"] is None and line["heading_deg"] == pytest.approx(14.93, abs=0.01)
    code, _, error = run("flip-map", path, "--floor")
    assert code == 2 and "no line on any floor" in error


def test_a_pair_that_flips_back_at_once_as_the_camera_sways_flickers(run, tmp_path):
    """By depth along the view the two change places 14.93 degrees to the right; a sway turns by 15 and back: twice in a hundredth of a
    second."""
    path = write_build(mist_and_cutter(order={"key": "view_depth"}), tmp_path, "sway")
    code, out, _ = run("order", path, "--move", "sway", "--viewpoint", "eye", "--json", "-")
    (two,) = json.loads(out)["flickers"]
    assert code == 1 and {two["first"], two["second"]} == {"mist", "cutter"} and two["in_a_second"] == two["times"] == 2
    assert "flicker: they change places 2 times in a second" in run("order", path, "--move", "sway", "--viewpoint", "eye")[1]


def test_settings_of_the_order_that_change_nothing_are_told(run, tmp_path):
    path = write_build(mist_and_cutter(1.0, nodes={"mist": {"draw_rank": -1}}), tmp_path, "left_over")
    code, out, _ = run("leftovers", path, "--of", "order", "--json", "-")
    (one,) = json.loads(out)["settings"]
    assert code == 1 and one["setting"] == "nodes.mist.draw_rank" and not one["needed"]
    assert run("leftovers", path, "--of", "colour")[0] == 2


def test_what_each_alpha_asks_for_is_told(run, file, tmp_path):
    code, out, _ = run("blend-advice", file, "--json", "-")
    told = {c["material"]: c for c in json.loads(out)}
    assert code == 0 and set(told) == {"mist", "pane"} and {c["advice"] for c in told.values()} == {"blended"}
    assert told["mist"]["open"] == pytest.approx(0.5) and "asks for" in run("blend-advice", file)[1]
    solid = write_build(
        mist_and_cutter(materials={"cutter": {"blend": "premultiplied"}, "mist": {"blend": "additive"}}), tmp_path, "solid"
    )
    (cutter,) = json.loads(run("blend-advice", solid, "--json", "-")[1])
    assert (cutter["material"], cutter["open"]) == ("cutter", pytest.approx(0.3))


@pytest.mark.parametrize(
    ("args", "says"),
    [
        ((), "say --viewpoint"),
        (("--viewpoint", "nowhere"), "viewpoint 'nowhere'"),
        (("--move", "none"), "move 'none' does not exist"),
        (("--move", "sway"), "say which"),
        (("--viewpoint", "at", "--at", "1,1", "--picture", "f.png"), "leave --at and --move out"),
    ],
)
def test_what_makes_no_sense_is_one_line(run, file, args, says):
    code, _, error = run("order", file, *args)
    assert code == 2 and says in error and error.count("\n") == 1


def test_eyes_on_a_walk_past_mist(run, tmp_path):
    """Eyes 64 mm apart differ from x = -.295 to -.231 m."""
    keys = {
        "a": {"t_s": 0, "eye": [-1.5, 1.6, 0], "target": [-1.5, 1.6, -1]},
        "b": {"t_s": 3, "eye": [1.5, 1.6, 0], "target": [1.5, 1.6, -1]},
    }
    path = write_build(mist_and_cutter(0.0, moves={"walk": {"keys": keys}}), tmp_path)
    code, out, _ = run("eyes", path, "--move", "walk", "--size", "240x136", "--json", "-")
    (band,) = json.loads(out)["bands"]
    assert code == 1 and band["seen"]["pixels"] > 800
    assert (band["from_eye"][0], band["to_eye"][0]) == (pytest.approx(-0.2953, abs=1e-3), pytest.approx(-0.2313, abs=1e-3))
    code, out, _ = run("eyes", path, "--viewpoint", "eye", "--size", "240x136")
    assert code == 0 and "0 pairs at the viewpoint differ" in out
    code, _, err = run("eyes", path, "--viewpoint", "eye", "--gap", "-1")
    assert code == 2 and "at most 1000 mm" in err


def test_handwheels_whose_colour_was_wired_to_alpha_and_a_grille_that_is_one(run, tmp_path):
    """Alpha .86 to 1, .97 on the mean: 3 % of what is behind comes through, 14 % at the most, where nothing should. A grille with 40 % of
    its texels clear keeps its holes."""
    rng = np.random.default_rng(3)
    wheel = np.full((64, 64, 4), 120, np.uint8)
    wheel[..., 3] = np.rint(255 * np.clip(rng.normal(0.97, 0.03, (64, 64)), 0.86, 1))
    wheel[0, 0, 3] = np.rint(255 * 0.86)
    grille = np.full((60, 60, 4), 120, np.uint8)
    grille[..., 3] = np.where((np.arange(60) % 10 < 4)[:, None], 0, 255)
    wheel_look, grille_look = (
        Material(n, base_texture=TextureUse(k), unlit=True, alpha_mode="BLEND") for k, n in enumerate(("iron", "mesh"))
    )
    things = [card(f"wheel_{k}", (-3 + 0.5 * k, -2.6 + 0.5 * k), (0.8, 1.2), -3.0, wheel_look) for k in range(12)]
    things.append(card("grille", (-1, 1), (1.6, 2.6), -3.5, grille_look))
    for thing in things:
        thing.shape.uvs[-1] = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], np.float32)
    pictures = tuple(Image(n, freeze(v)) for n, v in (("wheel", wheel), ("grille", grille)))
    views = {"eye": {"eye": [0, 1.6, 0.0], "target": [0, 1.6, -1.0], "fov_y_deg": 55}}
    build = build_of(*things, images=pictures, setup={"viewpoints": views, **EXACT})
    code, out, _ = run("blend-advice", write_build(build, tmp_path), "--json", "-")
    told = {m["material"]: m for m in json.loads(out)}
    assert code == 1 and told["iron"]["advice"] == "opaque" and told["mesh"]["advice"] == "cutout"
    assert told["iron"]["open"] == pytest.approx(0.03, abs=4e-3) and told["iron"]["most"] == pytest.approx(0.14, abs=3e-3)
    assert told["mesh"]["open"] == pytest.approx(0.4, abs=1e-3)


def test_what_depth_hides_is_told_of_a_viewpoint_and_of_a_pixel(tmp_path, run):
    path = write_build(two_sheets(), tmp_path, "sheets")
    code, out, _ = run("order", path, "--viewpoint", "eye", "--json", tmp_path / "order.json")
    said = json.loads((tmp_path / "order.json").read_text())
    (one,) = said["hidden"]
    assert code == 1 and (one["writer"], one["hidden"]) == ("near", ["far"]) and said["off_px"] == one["pixels"] > 10_000
    assert "near writes its depth and hides far behind it" in out and said["pairs"] == []
    code, out, _ = run("order", path, "--viewpoint", "eye", "--at", "480,270", "--json", tmp_path / "at.json")
    said = json.loads((tmp_path / "at.json").read_text())
    assert code == 1 and [s["place"] for s in said["strata"]] == ["in place", "hidden by the depth that another wrote"]
    assert said["copied_m"] == pytest.approx(12.0, abs=0.01) and "the depth copy" in out
    healthy = write_build(two_sheets("no", front_rank=0), tmp_path, "healthy")
    assert run("order", healthy, "--viewpoint", "eye")[0] == 0
