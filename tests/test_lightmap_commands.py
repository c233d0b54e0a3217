"""charts, bake and why from the command line, on the fixtures of the worked cases."""

import json

import numpy as np
import OpenEXR
import pytest

from bake_scenes import baked_setup, matt, panel, under_a_partition
from eddyfall.cli import main
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.model import Image, Light, Material, TextureUse
from eddyfall.demo.shapes import Shape, grid_charts
from scenes import Thing, build_of


def write(folder, name, build):
    path = folder / f"{name}.glb"
    path.write_bytes(write_glb(build.scene))
    (folder / f"{name}.setup.json").write_text(json.dumps(build.raw_setup))
    return str(path)


def asked(capsys, *args):
    """(exit code, JSON) of a command."""
    code = main([*args, "--json", "-"])
    return code, json.loads(capsys.readouterr().out)


def leaf(rules):
    page = [[0, 0.5], [0.8, 0.5], [0.8, 0], [0, 0]]
    thing = panel("leaf", (0, 0, 0), (2, 0, 0), (0, 1.25, 0), matt("leaf", 0.5), page)
    return build_of(thing, setup={"meshes": {"leaf": {"lightmap_uv": 1, "copies": rules}}, "bake": {"resolution": 256}})


ACROSS = {"axis": "x", "at_m": 2.1, "uv_offset": [1, 0]}
ONE_STEP = {"both": {"kind": "mirror", "planes": [ACROSS, {"axis": "y", "at_m": 1.3, "uv_offset": [1, 0]}]}}
TWO_STEPS = {"both": {"kind": "mirror", "planes": [ACROSS, {"axis": "y", "at_m": 1.3, "uv_offset": [0, 1]}]}}


def test_a_leaf_whose_two_mirror_planes_share_a_step(tmp_path, capsys):
    # The worked case of overlapping lightmap charts: copies at tiles 0, 1, 1, 2: a third of the texels, half of the surface.
    code, found = asked(capsys, "charts", write(tmp_path, "leaf", leaf(ONE_STEP)), "--asset", "leaf")
    assert code == 0
    assert found["overlap"]["texel_share"] == pytest.approx(1 / 3, abs=1e-3)
    assert found["overlap"]["surface_share"] == pytest.approx(0.5, abs=1e-6)
    assert found["texels_per_m"] == pytest.approx(102.4)
    remedies = {r["title"]: r for r in found["remedies"]}
    assert len(remedies) >= 7
    shared = next(r for t, r in remedies.items() if t.startswith("fit"))
    assert shared["texel_share"] == 0 and shared["texels_per_m"] == pytest.approx(51.2, abs=0.01)
    packed = next(r for t, r in remedies.items() if t.endswith("pack their charts"))
    assert packed["cures"] and 60 < packed["texels_per_m"] <= 64.0
    parts = next(r for t, r in remedies.items() if "material part" in t)
    assert not parts["cures"], "a target with one map a mesh does not care for materials"


def test_copies_of_a_mesh_that_is_still_to_be_unwrapped_are_told_not_crashed(tmp_path, capsys):
    thing = Thing("leaf", Shape().quad((0, 0, 0), (2, 0, 0), (0, 1, 0)), matt("leaf", 0.5))
    build = build_of(thing, setup={"meshes": {"leaf": {"lightmap_uv": 1, "copies": ONE_STEP}}})
    code, report = asked(capsys, "charts", write(tmp_path, "leaf", build), "--asset", "leaf")
    assert code == 0 and report["degenerate"] == 8 and len(report["remedies"]) > 3


def test_a_step_for_each_plane_parts_the_copies_but_not_modulo_one(tmp_path, capsys):
    _, found = asked(capsys, "charts", write(tmp_path, "leaf", leaf(TWO_STEPS)), "--asset", "leaf")
    assert found["overlap"]["texel_share"] == 0
    assert found["overlap_modulo_1"]["surface_share"] == pytest.approx(1.0)


def test_the_six_ways_out_are_true_where_the_target_maps_parts(tmp_path, capsys):
    build = leaf({"a": {"kind": "mirror", "planes": [ACROSS | {"uv_offset": [0, 0]}]}})
    build.raw_setup["bake"]["unique_per"] = "part"
    _, found = asked(capsys, "charts", write(tmp_path, "leaf", build), "--asset", "leaf")
    parts = next(r for r in found["remedies"] if "material part" in r["title"])
    assert parts["cures"] and "+1 draws" in parts["price"]


@pytest.mark.parametrize(("resolution", "reach"), [(64, 120.0), (256, 32.5)])
def test_why_names_a_partition_and_its_reach(tmp_path, capsys, resolution, reach):
    path = write(tmp_path, "tank", under_a_partition(resolution, samples=256))
    texel = f"{int(3.03 / 6.4 * resolution)},{resolution - 2}"
    _, found = asked(capsys, "why", path, "--asset", "floor", "--texel", texel)
    assert found["effects"][0]["code"] == "bake.leak" and not found["healthy"]
    assert found["effects"][0]["facts"]["reach_linear_mm"] == pytest.approx(reach, abs=0.1)


def test_bake_writes_a_build_that_is_fresh_and_maps_as_openexr(tmp_path, capsys):
    path = write(tmp_path, "tank", under_a_partition(64, samples=32))
    code, before = asked(capsys, "bake", path, "--status")
    assert code == 1 and before["lightmaps"][0]["state"] == "missing"
    code, done = asked(capsys, "bake", path, "--out", str(tmp_path / "baked"))
    assert code == 0 and [b["asset"] for b in done["baked"]] == ["floor"]
    exr = next(f for f in done["files"] if f.endswith(".exr"))
    with OpenEXR.File(exr) as file:
        pixels = file.channels()["RGB"].pixels
    assert pixels.shape == (64, 64, 3) and float(pixels[-2, 5, 0]) == pytest.approx(1.0, abs=1e-3)
    code, after = asked(capsys, "bake", next(f for f in done["files"] if f.endswith(".glb")), "--status")
    assert code == 0 and after["lightmaps"][0]["state"] == "fresh"


def test_a_split_is_applied_and_baked_from_the_command_line(tmp_path, capsys):
    path = write(tmp_path, "tank", under_a_partition(64, samples=32))
    main(["bake", path, "--out", str(tmp_path / "baked")])
    capsys.readouterr()
    baked = str(tmp_path / "baked" / "tank.glb")
    assert main(["sweep", baked, "--size", "160x90", "--changes-out", str(tmp_path / "best.json"), "--fail-on", "latent"]) == 1
    wanted = json.loads((tmp_path / "best.json").read_text())["changes"]
    assert [c["operation"]["name"] for c in wanted] == ["uv.split", "bake.run"]
    assert main(["apply", baked, "--changes", str(tmp_path / "best.json"), "--out", str(tmp_path / "fixed")]) == 0
    assert main(["sweep", str(tmp_path / "fixed" / "tank.glb"), "--size", "160x90", "--fail-on", "latent"]) == 0
    assert "is clean" in capsys.readouterr().out


def test_what_to_bake_with_the_known_rate(tmp_path, capsys):
    # The worked case of flickering floors and oversized bake work: 720,000 triangles of planters and 340 of architecture at
    # 40,000/s: 18.01 s for all, .0085 s for the rest.
    planter = Shape()
    for i in range(15):
        for j in range(15):
            planter.box((i * 0.1, 0, j * 0.1), (i * 0.1 + 0.02, 0.3, j * 0.1 + 0.02))
    walls = Shape().box((-5, -0.1, -5), (15, 0, 15)).box((-5, 0, -5), (-4.8, 3, 15))
    build = build_of(
        Thing("planter", planter), Thing("walls", walls), setup={"bake": {"resolution": 64, "samples": 16, "bounces": 1}},
        lamps=((Light("lamp", "point", intensity=900.0), (3.0, 2.5, 3.0)),),
    )  # fmt: skip
    _, found = asked(capsys, "bake", write(tmp_path, "house", build), "--plan", "--unwrap-rate", "40000")
    by_name = {c["node"]: c for c in found["candidates"]}
    assert by_name["planter"]["triangles"] == 2700 and by_name["walls"]["triangles"] == 24
    assert by_name["walls"]["value"] == 1.0 and by_name["planter"]["value"] < 0.5
    assert found["unwrap_all_s"] == pytest.approx(2724 / 40000)
    assert pytest.approx(18.01, abs=0.005) == 720_340 / 40_000 and pytest.approx(0.0085) == 340 / 40_000


def test_the_bleed_horizon_of_a_painted_housing(tmp_path, capsys):
    # The worked case of white seam at distance: 2048 texels, 2 of padding, 512 texels/m, 1080 rows at 60 degrees; here at an
    # eighth of the size and density.
    pixels = np.full((256, 256, 4), 230, np.uint8)
    pixels[..., 3] = 255
    pixels[62:194, 62:194, :3] = (60, 20, 10)
    material = Material("paint", metallic=0.0, base_texture=TextureUse(0))
    shape = Shape().quad((0, 0, 0), (2, 0, 0), (0, 2, 0))
    shape.uvs[0] = np.array([[0.25, 0.75], [0.75, 0.75], [0.75, 0.25], [0.25, 0.25]])
    build = build_of(Thing("housing", shape, material), images=(Image("rust", pixels),))
    _, found = asked(capsys, "charts", write(tmp_path, "housing", build), "--asset", "housing", "--uv", "0")
    bleed = found["bleed"]
    assert (bleed["padding_texels"], bleed["safe_mip"]) == (2, 1)
    assert bleed["texels_per_m"] == pytest.approx(64) and bleed["focal_px"] == pytest.approx(935.3, abs=0.05)
    assert bleed["first_bad_m"] == pytest.approx(3.65 * 8, abs=0.03)
    assert bleed["level_m"]["3"] == pytest.approx(14.61 * 8, abs=0.05)
    assert bleed["shimmer_m"] == pytest.approx(1.83 * 8, abs=0.03)


def test_bad_questions_end_with_two_and_one_line(tmp_path, capsys):
    path = write(tmp_path, "tank", under_a_partition(64))
    for args in (
        ["why", path, "--asset", "floor"],
        ["why", path, "--asset", "attic", "--texel", "1,1"],
        ["why", path, "--asset", "floor", "--texel", "900,1"],
        ["bake", path],
        ["bake", path, "--out", str(tmp_path / "o"), "--assets", "attic"],
        ["bake", path, "--status", "--light-set", "night"],
        ["charts", path, "--picture", str(tmp_path / "p.png")],
    ):
        assert main(args) == 2, args
        said = capsys.readouterr().err.strip().splitlines()
        assert len(said) == 1 and said[0].startswith("eddyfall: "), args


def test_setup_that_names_no_light_set_is_refused(tmp_path, capsys):
    build = build_of(panel("floor", (0, 0, 1), (1, 0, 0), (0, 0, -1), matt("f", 0.5)), setup=baked_setup([]))
    build.raw_setup["viewpoints"]["eye"]["light_set"] = "night"
    assert main(["intake", write(tmp_path, "x", build)]) == 2
    assert "light set 'night' is not in light_sets" in capsys.readouterr().err


def tank():
    """The settling tank of the worked case of missing inner faces: 4 x 3 x 2 m without its lid, five quads that face out, seen
    from its opening."""
    box = Shape().box((0, 0, 0), (4, 2, 3), faces="xXyzZ")
    up = {"eye": [2, 2.01, 1.5], "target": [2.001, 0, 1.5], "fov_y_deg": 30}
    thing = Thing("tank", box, matt("steel", 0.5), lightmap=grid_charts(box))
    return build_of(thing, setup={"viewpoints": {"eye": up}, "meshes": {"tank": {"lightmap_uv": 1}}})


def figure_of(finding, measure):
    return next(e["value"] for e in finding["evidence"] if e["measure"] == measure)


def test_a_tank_without_inner_faces_and_its_three_ways_out(tmp_path, capsys):
    path = write(tmp_path, "tank", tank())
    _, swept = asked(capsys, "sweep", path)
    found = next(f for f in swept["findings"] if f["code"] == "face.seen-from-behind")
    # The worked case of missing inner faces: all rays through the opening meet removed faces; 10 triangles, 4 boundary edges.
    assert figure_of(found, "rays that meet removed faces") == 100
    assert figure_of(found, "boundary edges") == 4 and figure_of(found, "triangles") == 10
    after = {}
    for remedy in found["remedies"]:
        (tmp_path / "fix.changes.json").write_text(json.dumps({"eddyfall_changes": 1, "changes": [remedy["change"]]}))
        out = tmp_path / f"out{len(after)}"
        assert asked(capsys, "apply", path, "--changes", str(tmp_path / "fix.changes.json"), "--out", str(out))[0] == 0
        glb = str(next(out.glob("*.glb")))
        codes = {f["code"] for f in asked(capsys, "sweep", glb)[1]["findings"]}
        assert "face.seen-from-behind" not in codes, remedy["title"]
        report = asked(capsys, "charts", glb, "--asset", "tank")[1]
        after[remedy["title"].split(" ")[0]] = (report["triangles"], report["boundary_edges"], report["overlap"]["surface_share"])
    # Both sides drawn: 10 triangles as before; a shell of 5 + 5 + 4 quads: 28, closed; doubled: 20, charts wholly overlapped.
    assert after["draw"][:2] == (10, 4)
    assert after["give"][:2] == (28, 0)
    assert after["double"][0] == 20 and after["double"][2] == pytest.approx(1)


def planes(far_m, floor_gap_m=None, wall_gap_m=None):
    """Two floors seen from 1.7 m up, or two walls square to the view, a gap apart, at a depth of `far_m`."""
    if floor_gap_m is not None:
        shapes = [Shape().quad((-90, -1.7 + y, -far_m + 30), (180, 0, 0), (0, 0, -60)) for y in (floor_gap_m, 0.0)]
        view = {"eye": [0, 0, 0], "target": [0, -1.7, -far_m], "fov_y_deg": 1.5}
    else:
        shapes = [Shape().quad((-9, -9, -far_m + z), (18, 0, 0), (0, 18, 0)) for z in (wall_gap_m, 0.0)]
        view = {"eye": [0, 0, 0], "target": [0, 0, -1], "fov_y_deg": 10}
    things = [Thing(name, shape, matt(name, value)) for name, shape, value in zip(("stage", "floor"), shapes, (0.7, 0.2))]
    return build_of(*things, setup={"depth": {"near_m": 0.05, "format": "unorm24"}, "viewpoints": {"eye": view}})


@pytest.mark.parametrize(
    ("kind", "reach", "words"),
    [("wall_gap_m", 28.96, "faces turned to the camera"), ("floor_gap_m", 493.4, "seen from 1.7 m off their plane")],
)
def test_how_far_a_gap_of_a_millimetre_is_told_apart(tmp_path, capsys, kind, reach, words):
    # The worked case of flickering floors and oversized bake work: near .05 m, 24 bits: sqrt(.001 * .05 * 2^24) = 28.96 m
    # facing, .001 * .05 * 2^24 / 1.7 = 493 m for a floor.
    for share, expected in ((0.8, False), (1.25, True)):
        path = write(tmp_path, f"at{share}", planes(reach * share, **{kind: 0.001}))
        found = [f for f in asked(capsys, "sweep", path)[1]["findings"] if f["code"] == "depth.coincident"]
        assert bool(found) is expected, (share, found)
    said = next(e for e in found[0]["evidence"] if e["measure"].startswith(words))
    assert said["predicted"] and said["value"] == pytest.approx(reach, rel=0.06 if kind == "floor_gap_m" else 0.03)
