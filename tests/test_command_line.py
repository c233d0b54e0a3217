"""Every command as a user runs it: exit codes, JSON keys, one-line errors."""

import json
import subprocess
import sys
from dataclasses import replace

import numpy as np
import pytest
from PIL import Image

from eddyfall.cli import main
from eddyfall.core.scene.model import Camera, Node
from eddyfall.core.sweep import sweep
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of, net_build, write_build


@pytest.fixture(scope="module")
def nets(tmp_path_factory):
    return write_build(net_build(), tmp_path_factory.mktemp("nets"), "nets")


SMALL = ("--size", "320x180")


def test_intake_says_what_is_in_the_file(run, nets):
    code, out, _ = run("intake", nets)
    assert code == 0 and "triangles" in out and "eye" in out
    facts = json.loads(run("intake", nets, "--json", "-")[1])
    assert facts["triangles"] == 6 and facts["viewpoints"] == ["eye"] and facts["left_out"] == []
    assert {"drawables", "meshes", "nodes", "materials", "images", "lights", "cameras", "bounds_m", "setup"} <= set(facts)


def test_frame_writes_png_and_exr(run, nets, tmp_path):
    for ending in ("png", "exr"):
        code, _, _ = run("frame", nets, "--viewpoint", "eye", "--out", tmp_path / f"f.{ending}", *SMALL)
        assert code == 0 and (tmp_path / f"f.{ending}").stat().st_size > 1000
    assert Image.open(tmp_path / "f.png").size == (320, 180)
    assert run("frame", nets, "--viewpoint", "eye", "--out", tmp_path / "f.tiff")[0] == 2
    assert run("frame", nets, "--viewpoint", "eye", "--out", nets)[0] == 2


def test_the_worked_numbers_of_the_net_come_out_of_core_samples(run, nets, tmp_path):
    # The worked case of netting that looks see-through: green .413 over the quay wall, .632 over the far bank, .660 over the
    # sky; .409 everywhere once it is right.
    def green(path, x):
        code, out, _ = run("core-sample", path, "--viewpoint", "eye", "--at", f"{x},90", *SMALL, "--json", "-")
        sample = json.loads(out)
        assert code == 0 and np.allclose(sample["sum"], sample["linear"], rtol=1e-4)
        return round(sample["linear"][1], 3)

    assert [green(nets, x) for x in (20, 140, 235)] == [0.413, 0.632, 0.660]
    assert run("sweep", nets, *SMALL, "--changes-out", tmp_path / "c.json")[0] == 1
    assert run("apply", nets, "--changes", tmp_path / "c.json", "--out", tmp_path / "fixed")[0] == 0
    assert [green(tmp_path / "fixed" / "nets.glb", x) for x in (20, 140, 235)] == [0.409] * 3


def test_sweep_apply_sweep(run, nets, tmp_path):
    code, out, _ = run(
        "sweep", nets, *SMALL, "--json", tmp_path / "s.json", "--sarif", tmp_path / "s.sarif", "--html", tmp_path / "s.html",
        "--changes-out", tmp_path / "c.json",
    )  # fmt: skip
    assert code == 1 and "depth.missing-prepass" in out
    document = json.loads((tmp_path / "s.json").read_text())
    assert [f["code"] for f in document["findings"]] == ["depth.missing-prepass"]
    assert json.loads((tmp_path / "s.sarif").read_text())["version"] == "2.1.0"
    assert (tmp_path / "s.html").read_text().startswith("<!doctype html>")
    code, out, _ = run("apply", nets, "--changes", tmp_path / "c.json", "--out", tmp_path / "fixed", "--json", "-")
    applied = json.loads(out)
    assert code == 0 and applied["hunks"] == 1
    code, out, _ = run("sweep", applied["files"]["glb"], *SMALL)
    assert code == 0 and "is clean" in out


@pytest.mark.parametrize(("level", "code"), [("blocking", 0), ("visible", 1), ("latent", 1)])
def test_fail_on_sets_the_level_of_exit_code_1(level, code, run, tmp_path):
    # A net of a few pixels: visible, not blocking (1 % of a play frame).
    from eddyfall.demo.shapes import Shape
    from scenes import FOGGED, Thing, build_of, flat

    net = Thing("net", Shape().quad((-0.02, -0.02, -12), (0.04, 0, 0), (0, 0.04, 0)), flat("rope", 0.3))
    path = write_build(build_of(net, setup=FOGGED), tmp_path)
    result = sweep(build_of(net, setup=FOGGED), size=(320, 180))
    assert [f.severity for f in result.findings] == ["visible"], [f.impact for f in result.findings]
    assert run("sweep", path, *SMALL, "--fail-on", level)[0] == code


def test_lineup_table_json_and_pictures(run, nets, tmp_path):
    arguments = ("lineup", nets, "--viewpoint", "eye", "--spot", "150,60,80,60", "--symptom", "see-through", *SMALL)
    code, out, _ = run(*arguments, "--json", tmp_path / "l.json", "--pictures", tmp_path / "p")
    assert code == 0 and "write prepass depth (net)" in out
    document = json.loads((tmp_path / "l.json").read_text())
    first = document["trials"][0]
    assert first["verdict"] == "clears it" and first["scope"] == "shader"
    assert {"title", "before", "after", "collateral_share", "also_changed_share", "pass", "predicts", "because"} <= set(first)
    assert len(list((tmp_path / "p").glob("*.png"))) == len(document["trials"]) + 1


def test_a_target_is_judged_on_its_own_settings(run, tmp_path):
    build = net_build(
        depth={"near_m": 0.05, "copy_from": "opaque"}, targets={"slate": {"set": {"depth": {"copy_from": "prepass"}}}}
    )
    path = write_build(build, tmp_path)
    assert run("sweep", path, *SMALL)[0] == 0
    assert run("sweep", path, *SMALL, "--target", "slate")[0] == 1


@pytest.fixture(scope="module")
def yard_file(tmp_path_factory):
    assert main(["demo", "--yard", "--out", str(tmp_path_factory.mktemp("yard"))]) == 0
    return next(tmp_path_factory.getbasetemp().glob("yard*/tow_path_yard.glb"))


def test_shadows_are_held_against_true_ones(run, yard_file, tmp_path):
    code, out, _ = run("shadows", yard_file, *SMALL, "--viewpoint", "long_reach", "--picture", tmp_path / "s.png", "--json", "-")
    [found] = json.loads(out)
    assert code == 1 and (tmp_path / "s.png").exists()
    hoist = found["casters"][0]
    assert hoist["name"] == "far_hoist" and hoist["lost_at"] == hoist["ended_by"] == "a map serves this depth"
    assert hoist["margin_m"] == pytest.approx(360 - hoist["far_m"]) and hoist["missing_px"] > 0.9 * hoist["due_px"]
    assert [t["far_m"] for t in found["tiers"]] == pytest.approx([37.7, 80.15, 149.7, 360], abs=0.05)
    assert run("shadows", yard_file, *SMALL, "--picture", tmp_path / "t.png")[0] == 2, "a picture is of one viewpoint"
    assert run("shadows", yard_file, *SMALL, "--viewpoint", "long_reach", "--light", "moon")[0] == 2


def test_cures_are_drawn_in_every_technique(run, yard_file):
    code, out, _ = run("cures", yard_file, "--viewpoint", "long_reach", "--caster", "far_hoist", "--json", "-")
    found = {(c["technique"], c["remedy"]): c for c in json.loads(out)["cells"]}
    assert code == 0 and len(found) == 15
    assert {k for k, c in found.items() if c["verdict"] == "cures" and k[0] == "cascades"} == {
        ("cascades", "reach"), ("cascades", "far tier"),
    }  # fmt: skip
    assert found["cascades", "far tier"]["cost"]["bytes"] == 16 * 2**20


def test_a_bias_is_solved_for_a_lamp_without_one_and_for_one_with_too_much(run, yard_file):
    code, out, _ = run("shadow-bias", yard_file, "--viewpoint", "slip", "--light", "slip_lamp_bare", "--json", "-")
    bare = json.loads(out)
    assert code == 1 and bare["set_to"]["false_px"] > 10_000 and bare["set_to"]["foot"]["lost_mm"] == 0
    code, out, _ = run("shadow-bias", yard_file, "--viewpoint", "slip", "--light", "slip_lamp_far", "--json", "-")
    far = json.loads(out)
    assert (
        code == 1 and far["set_to"]["false_px"] == 0 and far["set_to"]["foot"]["lost_mm"] > 10 * far["set_to"]["foot"]["limit_mm"]
    )
    assert run("shadow-bias", yard_file, "--viewpoint", "slip", "--light", "slip_lamp_true")[0] == 0
    for found in (bare, far):
        assert found["chosen"]["inside"] and all(r["same"] for r in found["front"])
        constant = next(w for w in found["ways"] if w["name"] == "constant")
        assert constant["best"] is None and constant["resolution"] > found["resolution"]
    for wrong in (("--light", "shed_lamp"), ("--light", "moon"), ("--light", "sun", "--every", "0")):
        assert run("shadow-bias", yard_file, "--viewpoint", "boat_shed", *wrong)[0] == 2, wrong


def test_how_fine_shadows_are_is_measured_beside_its_limits(run, yard_file):
    code, out, _ = run("shadow-fineness", yard_file, "--viewpoint", "tow_path", "--json", "-")
    [fine] = json.loads(out)
    [grille] = [h for h in fine["holes"] if h["material"] == "grille_mesh"]
    assert code == 1 and grille["drawn"] < 0.01 and grille["true"] > 0.45 and grille["pixels"] > 256
    assert fine["edges"]["pixels_a_texel"] < fine["edges"]["limit"] == 4
    assert {t["caster"] for t in fine["thin"]} == {"flagstaff"} and fine["thin"][0]["texels"] < 1
    code, out, _ = run("shadow-fineness", yard_file, "--viewpoint", "berth")
    assert code == 0 and "a texel covers" in out
    assert run("shadow-fineness", yard_file, "--viewpoint", "berth", "--light", "moon")[0] == 2


def test_what_shadows_take_is_counted_beside_the_targets_limits(run, yard_file):
    code, out, _ = run("shadow-budget", yard_file, "--viewpoint", "long_reach", "--target", "kiosk", "--json", "-")
    [spent] = json.loads(out)
    assert code == 1 and spent["limits"] == [{"leaf": "shadow_mib", "spent": spent["total"]["mib"], "limit": 128.0}]
    by_light = {v["light"]: v for v in spent["lights"]}
    assert by_light["sun"]["spent"]["mib"] == 64 and by_light["slip_lamp_bare"]["due_px"] == 0
    code, out, _ = run("shadow-budget", yard_file, "--viewpoint", "long_reach")
    assert code == 0 and "no limit is set" in out and "slip_lamp_bare" in out


def test_a_walk_says_what_swims_and_where_a_shadow_drops_out(run, yard_file):
    code, out, _ = run("shadow-walk", yard_file, "--viewpoint", "berth", "--json", "-")
    slides = json.loads(out)
    assert code == 1 and slides["share"] > slides["limit"] == 0.01 and slides["light"] == "sun"
    code, out, _ = run("shadow-walk", yard_file, *SMALL, "--viewpoint", "tow_path", "--json", "-")
    assert code == 0 and json.loads(out)["swims"] == 0
    code, out, _ = run(
        "shadow-walk",
        yard_file,
        *SMALL,
        "--viewpoint",
        "long_reach",
        "--move",
        "retreat",
        "--step",
        "10",
        "--steps",
        "6",
        "--json",
        "-",
    )
    near = next(c for c in json.loads(out)["casters"] if c["name"] == "near_hoist")
    assert code == 0 and near["drops_out_m"] == pytest.approx(360, abs=15), "it stands well inside the reach, and walks out of it"
    for wrong in (("--steps", "0"), ("--step", "nan"), ("--light", "shed_lamp")):
        assert run("shadow-walk", yard_file, *SMALL, "--viewpoint", "boat_shed", *wrong)[0] == 2, wrong


def test_leftovers_are_findings_of_their_own(run, yard_file):
    code, out, _ = run("leftovers", yard_file, *SMALL, "--json", "-")
    spare = [s["setting"] for s in json.loads(out)["settings"] if not s["needed"]]
    assert code == 1 and spare == ["nodes.barrow.bounds_padding_m"]


def test_setup_schema_and_pass_table(run, tmp_path):
    code, out, _ = run("setup-schema")
    assert code == 0 and json.loads(out)["properties"]["fog"]
    code, out, _ = run("passes", "--json", "-")
    assert code == 0 and {"number", "name", "reads", "writes"} <= set(json.loads(out)[0])


def test_the_published_schema_is_the_one_in_use(run):
    from pathlib import Path

    published = Path(__file__).parents[1] / "docs" / "setup.schema.json"
    assert json.loads(published.read_text()) == json.loads(run("setup-schema")[1])


def test_demo_writes_its_files(run, tmp_path):
    code, out, _ = run("demo", "--out", tmp_path, "--only-write")
    assert code == 0 and {"weirgate.glb", "weirgate.setup.json", "weirgate.truth.json"} <= {p.name for p in tmp_path.iterdir()}
    assert str(tmp_path) in out


@pytest.mark.parametrize(
    "arguments",
    [
        ("intake", "no.glb"),
        ("frame", "{nets}", "--viewpoint", "no", "--out", "/tmp/never.png"),
        ("frame", "{nets}", "--viewpoint", "eye", "--out", "/tmp/never.png", "--size", "90000x10"),
        ("core-sample", "{nets}", "--viewpoint", "eye", "--at", "5000,2"),
        ("sweep", "{nets}", "--target", "no"),
        ("sweep", "{nets}", "--setup", "no.json"),
        ("lineup", "{nets}", "--viewpoint", "eye", "--spot", "0,0,4,4", "--symptom", "ugly"),
        ("apply", "{nets}", "--changes", "no.json", "--out", "/tmp/never"),
    ],
)
def test_bad_input_is_exit_2_and_one_line(arguments, run, nets):
    code, _, err = run(*(a.replace("{nets}", str(nets)) for a in arguments))
    assert code == 2
    assert err.strip().startswith("eddyfall: ") and len(err.strip().splitlines()) == 1


@pytest.mark.parametrize(
    "arguments", [("frame",), ("sweep", "a.glb", "--size", "big"), ("nothing",), ("lineup", "a", "--spot", "1,2")]
)
def test_a_command_line_that_cannot_be_read_is_exit_2(arguments, run):
    assert run(*arguments)[0] == 2


def test_a_lone_part_of_a_change_file_does_not_apply_by_halves(run, nets, tmp_path):
    good = {"id": "a", "scope": "shader", "patch": [{"op": "replace", "path": "/shaders/net/passes/depth", "value": True}]}
    bad = {"id": "b", "scope": "project", "patch": [{"op": "replace", "path": "/fog/fog_per_m", "value": "thick"}]}
    (tmp_path / "c.json").write_text(json.dumps({"eddyfall_changes": 1, "changes": [good, bad]}))
    code, _, err = run("apply", nets, "--changes", tmp_path / "c.json", "--out", tmp_path / "out")
    assert code == 2 and "change b" in err and not (tmp_path / "out").exists()


def test_a_crash_is_told_in_one_line_and_has_an_exit_code_of_its_own(run, nets, monkeypatch):
    def broken(*args, **kwargs):
        raise OverflowError("cannot convert float infinity\nto integer")

    monkeypatch.setattr("eddyfall.core.sweep.run._Sweep.run", broken)
    code, out, err = run("sweep", nets)
    assert code == 3 and out == "" and err.count("\n") == 1
    assert "not foreseen: OverflowError: cannot convert float infinity to integer" in err and "not a finding" in err


def test_a_closed_pipe_ends_quietly_and_the_files_asked_for_are_written(nets, tmp_path):
    command = [
        sys.executable,
        "-m",
        "eddyfall.cli",
        "sweep",
        str(nets),
        *SMALL,
        "--json",
        str(tmp_path / "r.json"),
        "--sarif",
        str(tmp_path / "r.sarif"),
    ]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    process.stdout.close()
    assert process.stderr.read() == "" and process.wait() == 1
    assert json.loads((tmp_path / "r.json").read_text())["findings"] and json.loads((tmp_path / "r.sarif").read_text())["runs"]


def test_nothing_drawn_is_never_clean(run, tmp_path):
    # A scene of 2 mm before the default near plane of 100 mm: everything is cut off, and smaller near is the remedy.
    speck = Thing("speck", Shape().box((-0.001, -0.001, -0.011), (0.001, 0.001, -0.01)))
    path = write_build(build_of(speck), tmp_path, "speck")
    code, out, _ = run("sweep", path, *SMALL, "--json", "-")
    [finding] = json.loads(out)["findings"]
    assert code == 1 and finding["code"] == "view.empty" and finding["severity"] == "blocking"
    assert finding["remedies"][0]["verdict"] == "cures" and finding["remedies"][0]["title"].startswith("near plane 0.00")
    # All of its geometry left out: refused.
    holes = write_build(build_of(Thing("a", Shape().quad((1234.5, 0, 0), (1, 0, 0), (0, 1, 0)))), tmp_path, "holes")
    holes.write_bytes(holes.read_bytes().replace(np.float32(1234.5).tobytes(), np.float32("nan").tobytes()))
    code, out, err = run("sweep", holes, *SMALL)
    assert code == 2 and "nothing can be judged" in err and "NaN" in err


def test_coordinates_of_millions_of_metres_are_drawn_and_said_to_lose_precision(run, tmp_path):
    # Map-like places, as survey data has them: 4,500 km out, float32 steps are half a metre.
    things = [
        Thing(n, Shape().box((x, 0, -8), (x + 2, 2, -6)), place=(4_500_000.0, 0, 5_400_000.0)) for n, x in (("a", -3), ("b", 1))
    ]
    path = write_build(build_of(*things), tmp_path, "map", with_setup=False)
    code, out, _ = run("sweep", path, *SMALL, "--json", "-")
    found = {f["code"]: f for f in json.loads(out)["findings"]}
    assert code == 1 and "import.far-off" in found
    assert found["import.far-off"]["remedies"][0]["change"]["operation"]["name"] == "scene.move"


def test_a_camera_without_a_scale_is_left_out_and_said(run, tmp_path):
    build = build_of(Thing("a", Shape().box((-1, -1, -8), (1, 1, -6))))
    matrix = np.diag([0.0, 0.0, 0.0, 1.0])
    nodes = (*build.scene.nodes, Node("flat camera", matrix, camera=0))
    scene = replace(build.scene, nodes=nodes, cameras=(Camera("c", 0.8, 0.1),))
    path = write_build(replace(build, scene=scene), tmp_path, "cam", with_setup=False)
    code, out, _ = run("intake", path)
    assert code == 0 and "its scale is 0, so that it looks nowhere" in out and "fitted_front" in out
