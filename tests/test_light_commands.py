"""The commands about light as a user runs them: exit codes, JSON keys, one-line errors, what is put away and taken up."""

import dataclasses
import json

import numpy as np
import OpenEXR
import pytest
from PIL import Image as Picture

from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.scene.changes import apply_change, set_leaf
from eddyfall.core.scene.model import Image, Light, Material
from eddyfall.core.scene.setup import normalised, parse_setup
from eddyfall.core.scene.sky_pictures import exr_file
from eddyfall.demo.shapes import Shape
from light_rooms import glow, mirror_room, shining_hall
from scenes import Thing, build_of, write_build

SIZE = ("--size", "96x54")


def yard(reach_m=30):
    matt = {"metallic": 0.0, "ior": 1.0}
    return build_of(
        Thing("floor", Shape().quad((-20, 0, 20), (40, 0, 0), (0, 0, -40)), Material("floor", (0.6, 0.5, 0.4, 1), **matt)),
        Thing("box", Shape().box((-0.5, 0, -0.5), (0.5, 1.0, 0.5)), Material("box", (0.3, 0.5, 0.7, 1), **matt)),
        setup={
            "viewpoints": {"eye": {"eye": [1.5, 2.5, 3.5], "target": [0.3, 0.3, 0], "fov_y_deg": 45}}, "sky": {"ambient": False},
            "shadow": {"reach_m": reach_m, "resolution": 4096, "cascades": 1, "filter_px": 1, "bias_texels": 1.0},
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 30.0, "towards": [-0.5, 0.8, 0.3]}},
        },
    )  # fmt: skip


@pytest.fixture(scope="module")
def file(tmp_path_factory):
    return write_build(yard(), tmp_path_factory.mktemp("light"))


def test_a_reference_says_its_parts_and_its_noise(run, file, tmp_path):
    ways = ("--viewpoint", "eye", "--samples", 16, "--bounces", 2)
    code, out, _ = run(
        "reference", file, *ways, *SIZE, "--picture", tmp_path / "r.png", "--exr", tmp_path / "r.exr", "--json", "-"
    )
    found = json.loads(out)
    assert code == 0 and found["pixels"] == 96 * 54 and found["noise"]["samples"] == 16
    parts = {p["part"]: p["nits"] for p in (*found["parts"], *found["lights"])}
    assert parts["sun"][0] > 1 and 0 < parts["bounce"][0] < parts["sun"][0]
    assert found["mean_nits"] == pytest.approx(np.sum(list(parts.values()), axis=0))
    assert Picture.open(tmp_path / "r.png").size == (96, 54)
    with OpenEXR.File(str(tmp_path / "r.exr"), separate_channels=True) as exr:
        channels = {name: np.array(c.pixels) for name, c in exr.channels().items()}
    assert [channels[c].mean() for c in "RGB"] == pytest.approx(found["mean_nits"], rel=1e-4)
    assert {"bounce", "light_sun"} <= {name.partition(".")[0] for name in channels}
    assert "2 % take" in run("reference", file, *ways, *SIZE)[1]


def test_what_is_put_away_is_taken_up_and_another_build_is_refused(run, file, tmp_path):
    state = tmp_path / "eye.npz"
    ways = ("--viewpoint", "eye", "--bounces", 1, *SIZE)
    assert run("reference", file, *ways, "--samples", 4, "--state", state)[0] == 0
    resumed = json.loads(run("reference", file, *ways, "--samples", 12, "--state", state, "--json", "-")[1])
    whole = json.loads(run("reference", file, *ways, "--samples", 12, "--json", "-")[1])
    assert resumed == whole
    other = write_build(yard(reach_m=0.5), tmp_path, "other")
    code, _, error = run("compare", other, *ways, "--samples", 12, "--state", state)
    assert code == 2 and "of another build" in error and error.count("\n") == 1
    state.write_bytes(state.read_bytes()[:300])
    code, _, error = run("reference", file, *ways, "--state", state)
    assert code == 2 and "eye.npz: not a reference" in error and error.count("\n") == 1


def test_a_frame_that_agrees_ends_with_0_and_a_lost_shadow_with_1(run, file, tmp_path):
    ways = ("--viewpoint", "eye", "--samples", 8, "--bounces", 0, "--crop", "46,23,64,38", *SIZE)
    assert run("compare", file, *ways)[0] == 0
    lost = write_build(yard(reach_m=0.5), tmp_path)
    code, out, _ = run("compare", lost, *ways, "--json", "-")
    account = json.loads(out)
    shown = [row["part"] for row in account["rows"] if row["shown"]]
    assert code == 1 and shown == ["shadow"] and account["stops"] > 0.3
    assert sum(row["luminance"] for row in account["rows"]) == pytest.approx(account["standin"] - account["reference"], rel=1e-4)
    assert run("compare", lost, "--viewpoint", "eye", "--points", 300, "--samples", 4, *SIZE)[0] in (0, 1)


def test_a_picture_of_ones_own_is_exposed_and_laid_over(run, file, tmp_path):
    frame = Renderer().frame(yard(), Request("eye", (96, 54)), "linear").linear
    mine = np.roll(frame, (2, 3), axis=(0, 1)) / 4  # two stops darker, 3 px right, 2 px down
    mine[20:26, 40:46] *= 4
    path = tmp_path / "mine.exr"
    path.write_bytes(exr_file({"RGB": np.ascontiguousarray(mine, np.float32)}))
    code, out, _ = run("compare", file, "--viewpoint", "eye", "--against", path, *SIZE, "--json", "-")
    found = json.loads(out)
    assert code == 0 and found["misaligned_px"] == [3, 2]
    assert found["scale_stops"] == pytest.approx(2.0, abs=0.01) and found["median_off_stops"] < 0.01
    assert found["worst_stops"] < -0.5


@pytest.mark.parametrize(
    "args, words",
    [
        (("reference", "--viewpoint", "nowhere"), "viewpoint 'nowhere' does not exist"),
        (("reference", "--viewpoint", "eye", "--samples", "0"), "0 samples"),
        (("reference", "--viewpoint", "eye", "--error", "nan"), "noise of nan"),
        (("compare", "--viewpoint", "eye", "--crop", "5,5,5,9"), "does not lie in"),
        (("reference", "--viewpoint", "eye", "--points", "9", "--picture", "x.png"), "leave --points out"),
    ],
)
def test_what_makes_no_sense_is_one_line(run, file, args, words):
    code, _, error = run(args[0], file, *args[1:], *SIZE)
    assert code == 2 and words in error and error.count("\n") == 1


@pytest.mark.parametrize("made", ["cut", "other size", "dark", "depth only", "text"])
def test_a_picture_that_cannot_be_a_reference_is_one_line(run, file, tmp_path, made):
    path = tmp_path / "p.exr"
    shape = (27, 48) if made == "other size" else (54, 96)
    if made == "depth only":
        path.write_bytes(exr_file({"Z": np.ones(shape, np.float32)}))
    else:
        path.write_bytes(exr_file({"RGB": np.full((*shape, 3), 0.0 if made == "dark" else 1.0, np.float32)}))
    if made == "cut":
        path.write_bytes(path.read_bytes()[:200])
    if made == "text":
        path.write_bytes(b"not a picture at all")
    code, _, error = run("compare", file, "--viewpoint", "eye", "--against", path, *SIZE)
    assert code == 2 and error.count("\n") == 1 and "p.exr" in error


def test_where_the_light_is_by_region_and_by_a_place_of_the_world(run, file):
    code, out, _ = run("where-light", file, "--viewpoint", "eye", "--places", 64, "--samples", 16, *SIZE, "--json", "-")
    found = json.loads(out)
    assert code == 0 and found["places"] == 64 and sum(c["share"] for c in found["classes"]) == pytest.approx(1.0)
    brought = sum(c["bounce"] + c["reflection"] for c in found["classes"])
    assert brought == pytest.approx(found["from_others"], rel=1e-6) and found["from_others"] < found["due"]
    assert found["ceilings"][0]["stops"] <= found["ceilings"][-1]["stops"] == pytest.approx(0, abs=1e-9)
    assert found["answers"] == [], "no pass that has the frame alone is on"
    code, out, _ = run("where-light", file, "--viewpoint", "eye", "--at", "0.7,0,0", "--samples", 256, *SIZE)
    assert code == 0 and "the most that can be had [predictions]" in out
    code, _, error = run("where-light", file, "--viewpoint", "eye", "--at", "0,9,0", *SIZE)
    assert code == 2 and "there is no surface at 0, 9, 0" in error and error.count("\n") == 1
    code, _, error = run("where-light", file, "--viewpoint", "eye", "--at", "a,b", *SIZE)
    assert code == 2 and "not three numbers" in error


def test_what_a_pass_makes_of_it_is_told_beside(run, tmp_path):
    build = yard()
    on = apply_change(build, set_leaf(build, ("bounce", "enabled"), True, scope="project", title="t"))
    path = write_build(dataclasses.replace(on, raw_setup=normalised(on.setup)), tmp_path)
    ways = ("where-light", path, "--viewpoint", "eye", "--places", 64, "--samples", 16, *SIZE)
    code, out, _ = run(*ways, "--json", "-")
    (answer,) = json.loads(out)["answers"]
    asked = sum(sum(v for k, v in row.items() if k != "where") for row in answer["classes"])
    assert code == 0 and answer["name"] == "bounce" and answer["fallback"] == "nothing"
    assert asked == pytest.approx(json.loads(out)["from_others"], rel=1e-6)
    assert "what bounce makes of it, falling back on nothing" in run(*ways)[1]


def test_a_budget_counts_targets_and_ends_with_one_where_it_is_passed(run, file, tmp_path):
    code, out, _ = run("budget", file)
    assert code == 0 and "eye: 0.00 MiB; no limit is set, at 1920 x 1080 px" in out
    build = yard()
    for path, value in ((("reflect", "enabled"), True), (("reflect", "divisor"), 2), (("budget", "screen_mib"), 40.0)):
        build = apply_change(build, set_leaf(build, path, value, scope="project", title="t"))
    path = write_build(dataclasses.replace(build, raw_setup=normalised(build.setup)), tmp_path)
    code, out, _ = run("budget", path, "--json", "-")
    (found,) = json.loads(out)
    # 20 B a px at half the edge beside copies of 31.64 MiB
    assert code == 1 and found["over"] and found["bytes"] / 2**20 == pytest.approx(31.64 + 20 * 960 * 540 / 2**20, abs=0.006)
    assert {t["pass_name"] for t in found["targets"]} == {"screen copy", "reflect"}
    assert "of 40 MiB OVER" in run("budget", path)[1]
    assert run("budget", file, "--viewpoint", "nowhere")[0] == 2


def test_a_wall_beside_the_frame_by_command(run, tmp_path):
    """.392 of a shining wall's light is on the frame of the near view: .98 stops below the 208.7 lx that are due."""
    path = write_build(shining_hall(bounce={"enabled": True}, depth={"copy_from": "opaque"}), tmp_path, "hall")
    code, out, _ = run("where-light", path, "--viewpoint", "near", "--at", "3,0,6", "--samples", 1024, "--json", "-")
    found = json.loads(out)
    on = next(c["bounce"] for c in found["classes"] if c["where"] == "on the frame")
    dials = next(c["stops"] for c in found["ceilings"] if c["remedy"].startswith("dials"))
    assert code == 0 and found["due"] / 0.5 * np.pi == pytest.approx(208.7, rel=0.03)
    assert on / found["from_others"] == pytest.approx(0.392, abs=0.02) and dials == pytest.approx(-0.98, abs=0.05)


@pytest.mark.long
def test_a_walk_up_to_the_wall_by_command(run, tmp_path):
    """From .870 to .392 of the wall's light on the frame: .82 stops of drift, which a margin or rays into the world can cure."""
    keys = {
        "a": {"t_s": 0, "viewpoint": "turned 30"},
        "b": {"t_s": 1, "viewpoint": "turned 42"},
        "c": {"t_s": 3, "viewpoint": "near"},
    }
    bounce = {"enabled": True, "steps": 128}
    build = shining_hall(bounce=bounce, depth={"copy_from": "opaque"}, moves={"visit": {"keys": keys, "rate_hz": 5}})
    path = write_build(build, tmp_path, "hall")
    ways = ("moves", path, "--at", "3,0,6", "--size", "480x270")
    code, out, _ = run(*ways, "--move", "visit", "--json", "-")
    found = json.loads(out)
    assert code == 1 and not found["holds"] and found["cause"] == "off the frame" and len(found["moments"]) == 16
    first, last = found["moments"][0], found["moments"][-1]
    assert np.log2(first["predicted"] / first["due"]) == pytest.approx(-0.16, abs=0.06)
    assert np.log2(last["predicted"] / last["due"]) == pytest.approx(-0.98, abs=0.08) and found["worst_s"] == last["t_s"]
    assert last["measured"] == pytest.approx(last["predicted"], rel=0.08)
    assert {h["remedy"]: h["enough"] for h in found["helps"]}["a bake, a probe, rays into the world"]
    out = run(*ways, "--move", "visit")[1]
    assert "it does NOT hold within 0.25" in out and "[prediction]" in out
    assert run(*ways, "--move", "visit", "--limit", 2)[0] == 0
    assert run(*ways, "--move", "approach", "--viewpoint", "near", "--samples", 64, "--limit", 9)[0] == 0
    for wrong, says in (
        (("--move", "flight"), "move 'flight' does not exist"), (("--move", "sway"), "starts at a viewpoint"),
        (("--move", "visit", "--every", 0), "at least 1"), (("--move", "visit", "--at", "50,0,50"), "no surface"),
    ):  # fmt: skip
        code, _, error = run(*ways, *wrong)
        assert code == 2 and says in error and error.count("\n") == 1


@pytest.mark.parametrize(
    "keys, says",
    [
        ({"a": {"t_s": 0, "viewpoint": "eye"}}, "two keys"),
        ({"a": {"t_s": 1, "viewpoint": "eye"}, "b": {"t_s": 0, "viewpoint": "eye"}}, "is written after"),
        ({"a": {"t_s": 0, "viewpoint": "eye"}, "b": {"t_s": 1e999, "viewpoint": "eye"}}, "setup.json"),
    ],
)
def test_what_is_no_move_is_one_line_and_ends_with_two(run, file, tmp_path, keys, says):
    path = tmp_path / file.name
    path.write_bytes(file.read_bytes())
    setup = json.loads(file.with_suffix(".setup.json").read_text())
    path.with_suffix(".setup.json").write_text(json.dumps({**setup, "moves": {"m": {"keys": keys}}}))
    code, _, error = run("moves", path, "--move", "m")
    assert code == 2 and says in error and error.count("\n") == 1


def test_a_casting_black_in_shade_by_command(run, tmp_path):
    build = yard()
    sky = {"ambient": True, **{name: [1.0, 1.0, 1.0] for name in ("zenith_rgb", "horizon_rgb", "ground_rgb")}}
    shaders = {"deaf": {"answers": {"ambient": False}}}
    raw = {**normalised(build.setup), "sky": sky, "shaders": shaders, "materials": {"box": {"shader": "deaf"}}}
    path = write_build(dataclasses.replace(build, setup=parse_setup(raw), raw_setup=raw), tmp_path)
    code, out, _ = run("response", path, "--json", "-")
    box, floor = json.loads(out)
    assert code == 1 and (box["material"], box["verdict"], box["answer"]) == ("box", "broken", 0.0)
    assert box["in_place"][0]["causes"][0]["what"] == ["its base shader does not answer light from around"]
    assert floor["verdict"] == "answers" and floor["answer"] == pytest.approx(1.0)
    assert "cause: its base shader does not answer light from around" in run("response", path)[1]
    swap = ("swap-shader", path, "--material", "box", "--to", "stock_opaque")
    code, out, _ = run(*swap, "--changes", tmp_path / "c.json", "--json", "-")
    found = json.loads(out)
    assert code == 0 and (found["answer_before"], found["default_px"]) == (0.0, 0) and found["sun_delta_e"] <= 1
    assert run("apply", path, "--changes", tmp_path / "c.json", "--out", tmp_path / "after")[0] == 0
    assert run("response", next((tmp_path / "after").glob("*.glb")))[0] == 0
    for wrong, says in (
        (("--material", "tin"), "material 'tin' does not exist"),
        (("--to", "none"), "base shader 'none' does not exist"),
    ):
        code, _, error = run(*swap, *wrong)
        assert code == 2 and says in error and error.count("\n") == 1


def test_probes_are_captured_and_held_against_what_is_there_by_command(run, tmp_path):
    probe = {"place_m": [0, 1.5, 3], "low_m": [-4, 0, 0], "high_m": [4, 3, 6], "boxed": False, "size": 128, "samples": 4}
    path = write_build(mirror_room(probes={"hall": probe}), tmp_path)
    code, out, _ = run("probes", path, "--changes", tmp_path / "c.json")
    assert code == 1 and "never captured" in out and "1 probes and 0 grids to capture" in out
    assert run("apply", path, "--changes", tmp_path / "c.json", "--out", tmp_path / "after")[0] == 0
    captured = next((tmp_path / "after").glob("*.glb"))
    door = ("--at", "2.5,1.6,6")
    code, out, _ = run("probes", captured, *door, "--json", "-")
    (hall,) = json.loads(out)["probes"]
    assert code == 1 and hall["fits"][0]["why"] == [] and hall["seen"][0]["faults"] == ["reflect.probe"]
    # The door's middle by hand: mirrored at (2.5, 1.6, -6), where the probe shows (0.833, 1.5, 6).
    assert hall["seen"][0]["at_px"] == pytest.approx(96.2, abs=0.8)
    assert hall["bytes"] == 174_760 and hall["seen"][0]["surfaces"] == ["panel"] and hall["seen"][0]["unseen"] == 0
    setup = json.loads(captured.with_suffix(".setup.json").read_text())
    setup["probes"]["hall"]["boxed"] = True
    captured.with_suffix(".setup.json").write_text(json.dumps(setup))
    code, out, _ = run("probes", captured, *door)
    assert code == 0 and "hall: at 0,1.5,3" in out and "reflect.probe" not in out and "that place is shown 0.0 px off" in out
    setup["probes"]["hall"]["high_m"] = [4, 3, 8]
    captured.with_suffix(".setup.json").write_text(json.dumps(setup))
    assert "that place is shown 38." in run("probes", captured, *door)[1]


def test_what_moves_is_held_against_what_is_due_by_command(run, tmp_path):
    crate = Thing(
        "crate", Shape().box((-0.25, 0.02, 2.5), (0.25, 0.5, 3.0)), Material("crate", (0.5, 0.5, 0.5, 1), metallic=0.0, ior=1.0)
    )
    path = write_build(mirror_room(more=(crate,), eye=(1, 1.6, 5.5), nodes={"crate": {"moves": True}}), tmp_path)
    code, out, _ = run("probes", path, "--json", "-")
    (mover,) = json.loads(out)["movers"]
    assert (
        code == 1
        and (mover["drawable"], mover["grids"], mover["faults"]) == ("crate", [], ["grid.uncovered"])
        and mover["due"] > 1
    )
    grid = {"low_m": [-3.9, 0.2, 0.2], "high_m": [3.9, 2.8, 5.8], "counts": [5, 3, 5]}
    path = write_build(
        mirror_room(more=(crate,), eye=(1, 1.6, 5.5), nodes={"crate": {"moves": True}}, grids={"room": grid}), tmp_path, "b"
    )
    assert "grid room: 5 x 3 x 5 points" in run("probes", path, "--changes", tmp_path / "g.json")[1]
    assert run("apply", path, "--changes", tmp_path / "g.json", "--out", tmp_path / "gridded")[0] == 0
    code, out, _ = run("probes", next((tmp_path / "gridded").glob("*.glb")), "--json", "-")
    found = json.loads(out)
    assert code == 0 and found["movers"][0]["grids"] == ["room"] and abs(found["movers"][0]["off_stops"]) < 0.4
    assert found["grids"][0]["bytes"] == 75 * 73 * 8 and found["grids"][0]["fits"][0]["why"] == []


def two_rooms(at_m):
    """Even light of 1000 lx on the one side of a thin wall, of 50 on the other; a card that moves, a grid with points at +-1 m."""

    def rooms(x0, x1, lux):
        box = Shape()
        for face in (
            ((x0, 0, 4), (x1 - x0, 0, 0), (0, 0, -4)), ((x0, 3, 0), (x1 - x0, 0, 0), (0, 0, 4)), ((x0, 0, 0), (x1 - x0, 0, 0), (0, 3, 0)),
            ((x1, 0, 4), (x0 - x1, 0, 0), (0, 3, 0)), ((x0, 0, 4), (0, 0, -4), (0, 3, 0)), ((x1, 0, 0), (0, 0, 4), (0, 3, 0)),
        ):  # fmt: skip
            box.quad(*face)
        return Thing(f"room of {lux}", box, glow(f"{lux} lx", lux / np.pi))

    card = Shape().quad((at_m, 1.4, 2.1), (0, 0, -0.2), (0, 0.2, 0))  # it faces away from the wall
    grid = {"low_m": [-1, 0.5, 0.5], "high_m": [1, 2.5, 3.5], "counts": [2, 2, 2], "samples": 1024}
    return build_of(
        rooms(-4, 0, 1000), rooms(0, 4, 50), Thing("card", card, Material("card", (0.5, 0.5, 0.5, 1), metallic=0.0, ior=1.0)),
        setup={
            "viewpoints": {"eye": {"eye": [3.5, 1.5, 2], "target": [0, 1.5, 2]}}, "sky": {"ambient": False},
            "nodes": {"card": {"moves": True}}, "grids": {"both": grid},
        },
    )  # fmt: skip


def test_a_grid_that_leaks_through_a_thin_wall_by_command(run, tmp_path):
    """.2 m behind the wall four tenths come from the other side: .4 * 1000 + .6 * 50 = 430 lx for 50, 3.10 stops; from .98 m on a quarter
    of a stop is left (950 (1 - x) / 2 = 50 (2^.25 - 1))."""
    for at, lux, stops, faults in (
        (0.2, 430.0, 3.10, ["grid.leak"]),
        (0.97, 64.25, 0.36, ["grid.leak"]),
        (0.985, 57.1, 0.19, []),
    ):
        path = write_build(two_rooms(at), tmp_path, f"at {at}")
        assert run("probes", path, "--changes", tmp_path / f"{at}.json")[0] in (0, 1)
        assert run("apply", path, "--changes", tmp_path / f"{at}.json", "--out", tmp_path / f"gridded {at}")[0] == 0
        code, out, _ = run("probes", next((tmp_path / f"gridded {at}").glob("*.glb")), "--json", "-")
        (card,) = json.loads(out)["movers"]
        assert card["drawn"] == pytest.approx(lux, rel=0.01, abs=1.5) and card["due"] == pytest.approx(50, rel=0.01), card
        assert card["off_stops"] == pytest.approx(stops, abs=0.04) and (card["faults"], code) == (faults, int(bool(faults))), card


def test_a_curved_mirror_and_a_torn_probe_are_one_line(run, tmp_path):
    """They are found when the build is opened, whatever is asked of it."""
    post = Thing("post", Shape().tube((0, 0, 2), (0, 2, 2), 0.4, 0.4, 24), Material("steel", metallic=1.0, roughness=0.0))
    path = write_build(mirror_room(more=(post,)), tmp_path)
    setup = json.loads(path.with_suffix(".setup.json").read_text())
    for mirror, says in (({"node": "post"}, "is not flat"), ({"node": "none"}, "is not there"), ({}, "node")):
        path.with_suffix(".setup.json").write_text(json.dumps({**setup, "mirrors": {"m": mirror}}))
        code, _, error = run("frame", path, "--viewpoint", "eye", "--out", tmp_path / "f.png")
        assert code == 2 and says in error and error.count("\n") == 1 and not (tmp_path / "f.png").exists(), error
    torn = mirror_room(probes={"hall": {"size": 16}}, probe_maps={"hall": {"as_set": {"image": "flat"}}})
    flat = Image("flat", np.zeros((16, 20, 4), np.uint8), np.zeros((16, 20, 4), np.uint16))
    path = write_build(dataclasses.replace(torn, scene=torn.scene.with_image(flat)), tmp_path, "torn")
    code, _, error = run("probes", path)
    assert code == 2 and "20 x 16 is no square of 16 to 512 texels" in error and error.count("\n") == 1


def test_an_older_scene_is_told_what_it_lacks_by_command_and_converted(run, tmp_path):
    """Its set-up knows nothing of bounce; a fill was hung to make up for it, and its lamp has no end."""
    lamp = Light("fill", "point", intensity=2200.0)
    build = build_of(
        Thing("wall", Shape().quad((0, 0, 9.6), (0, 0, -7.2), (0, 3, 0)), glow("wall", 1400 / np.pi)),
        Thing("floor", Shape().quad((0, 0, 12), (12, 0, 0), (0, 0, -12)), Material("floor", (0.5, 0.5, 0.5, 1), metallic=0.0, ior=1.0)),
        setup={
            "viewpoints": {"eye": {"eye": [9, 4, 6], "target": [2, 0, 6]}}, "sky": {"ambient": False}, "depth": {"copy_from": "opaque"},
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 2.0, "towards": [0, 1, 0]}},
        },
        lamps=((lamp, (3.0, 2.5, 6.0)),),
    )  # fmt: skip
    path = write_build(build, tmp_path)
    setup = {k: v for k, v in json.loads(path.with_suffix(".setup.json").read_text()).items() if k not in ("bounce", "reflect")}
    path.with_suffix(".setup.json").write_text(json.dumps(setup))
    code, out, _ = run("migrate", path, "--json", "-", "--changes", tmp_path / "c.json")
    found = json.loads(out)
    absent = {a["section"]: a for a in found["absent"]}
    assert (
        absent["bounce"]["whole"] and not absent["bounce"]["on"] and "depth" not in {a for a, b in absent.items() if b["whole"]}
    )
    step = next(s for s in found["steps"] if s["section"] == "bounce")
    assert step["seen"][0]["stops"] > 0.1 and found["stale"] == []
    (reach,) = found["reaches"]
    assert reach["range_m"] == 0 and reach["least_m"] > 0 and reach["kept"] >= 0.95 and reach["pixels_then"] <= reach["pixels"]
    assert code == 1 and [f["light"] for f in found["fills"] if f["doubles"]] == ["fill"]
    assert json.loads((tmp_path / "c.json").read_text())["changes"][0]["title"] == "bounce on"
    assert "arrives off" in run("migrate", path)[1]
    assert run("apply", path, "--changes", tmp_path / "c.json", "--out", tmp_path / "after")[0] == 0
    after = json.loads(next((tmp_path / "after").glob("*.setup.json")).read_text())
    assert after["bounce"]["enabled"] is True and after["lights"]["fill"]["on"] is False, "bounce stands in for the fill"
    assert run("migrate", path, "--viewpoint", "nowhere")[0] == 2


def test_the_least_range_of_a_lamp_by_command(run, tmp_path):
    """A patch 5 m from a lamp of 20 m that alone lights it: d / (1 - (1 - (d / 20)^4) 2^-.25)^(1/4) = 7.876 m keep it within .25 stops."""
    patch = Thing("patch", Shape().quad((-0.02, 0, 0.02), (0.04, 0, 0), (0, 0, -0.04)), Material("patch", metallic=0.0, ior=1.0))
    lamp = Light("lamp", "point", intensity=900.0, range_m=20.0)
    view = {"eye": [0.0, 0.2, 0.06], "target": [0, 0, 0]}
    build = build_of(patch, setup={"viewpoints": {"eye": view}, "sky": {"ambient": False}}, lamps=((lamp, (0.0, 5.0, 0.0)),))
    code, out, _ = run("migrate", write_build(build, tmp_path), "--json", "-")
    (reach,) = json.loads(out)["reaches"]
    assert code == 0 and reach["range_m"] == 20 and reach["least_m"] == pytest.approx(7.876, abs=0.005) and reach["kept"] >= 0.95


def test_dials_are_priced_by_command(run, tmp_path):
    build = shining_hall(bounce={"enabled": True, "steps": 8, "rays": 1}, depth={"copy_from": "opaque"})
    path = write_build(build, tmp_path)
    code, out, _ = run("dials", path, "--viewpoint", "level", "--json", "-")
    found = json.loads(out)
    assert code == 0 and [n["name"] for n in found["now"]] == ["bounce"] and found["due"] > 0
    assert {"steps", "rays", "reach_m", "thickness_m", "margin_px", "divisor", "rounds", "fallback"} == {
        d["leaf"] for d in found["dials"]
    }
    assert next(d for d in found["dials"] if d["leaf"] == "fallback")["nearer"] > 0
    assert run("dials", path, "--viewpoint", "nowhere")[0] == 2
