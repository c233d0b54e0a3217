"""What the Light and colour sheet asks: the account as the command line says it, growing, of a region, and as pictures."""

import io
import json
from dataclasses import replace

import numpy as np
import pytest
from PIL import Image

from api_helpers import send, upload
from eddyfall.cli import main
from eddyfall.core.bake.captures.capture import capture
from eddyfall.core.scene.model import Material
from eddyfall.core.scene.setup import normalised
from eddyfall.demo.shapes import Shape
from light_rooms import mirror_room
from scenes import Thing, build_of, write_build

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def yard(people, tmp_path):
    """A box on a floor whose shadow the reach does not hold."""
    matt = {"metallic": 0.0, "ior": 1.0}
    build = build_of(
        Thing("floor", Shape().quad((-20, 0, 20), (40, 0, 0), (0, 0, -40)), Material("floor", (0.6, 0.5, 0.4, 1), **matt)),
        Thing("box", Shape().box((-0.5, 0, -0.5), (0.5, 1.0, 0.5)), Material("box", (0.3, 0.5, 0.7, 1), **matt)),
        setup={
            "viewpoints": {"eye": {"eye": [1.5, 2.5, 3.5], "target": [0.3, 0.3, 0], "fov_y_deg": 45}}, "sky": {"ambient": False},
            "shadow": {"reach_m": 0.5, "resolution": 4096, "cascades": 1, "filter_px": 1, "bias_texels": 1.0},
            "lights": {"sun": {"kind": "sun", "illuminance_lux": 30.0, "towards": [-0.5, 0.8, 0.3]}},
        },
    )  # fmt: skip
    path = write_build(build, tmp_path, "yard")
    answer = upload(people["artist"], people["project"], path.read_bytes(), path.with_suffix(".setup.json").read_bytes())
    assert answer.status_code == 201, answer.content
    return {"path": path, "base": f"/api/projects/{people['project'].pk}/builds/1/light/eye", **people}


def test_the_account_is_what_the_command_line_says_and_grows(yard, capsys):
    viewer, base = yard["viewer"], yard["base"]

    def said(samples):
        ways = ("--viewpoint", "eye", "--size", "240x135", "--bounces", "2", "--samples", str(samples), "--json", "-")
        main(["compare", str(yard["path"]), *ways])
        return json.loads(capsys.readouterr().out)

    assert send(viewer, "GET", base + "/account?samples=4&bounces=2") == (200, said(4))
    status, grown = send(viewer, "GET", base + "/account?samples=8&bounces=2")
    assert (status, grown) == (200, said(8)) and [p["samples"] for p in grown["noise"]["curve"]] == [2, 4, 8]
    # Fewer than are there already: what is there.
    assert send(viewer, "GET", base + "/account?samples=2&bounces=2") == (200, grown)


def test_a_region_has_an_account_of_its_own(yard):
    viewer, base = yard["viewer"], yard["base"]
    status, part = send(viewer, "GET", base + "/account?bounces=0&region=460,230,180,150")
    assert status == 200 and part["region"] == [460, 230, 180, 150] and part["pixels"] == 45 * 38
    assert [row["part"] for row in part["rows"] if row["shown"]] == ["shadow"] and part["stops"] > 0.3
    whole = send(viewer, "GET", base + "/account?bounces=0")[1]
    assert whole["region"] is None and whole["pixels"] == 240 * 135 and abs(whole["stops"]) < part["stops"]
    for wrong in ("1,2,3", "0,0,961,1", "-1,0,4,4", "a,b,c,d", "10,10,0,4", "0,0,99999999,1"):
        status, answer = send(viewer, "GET", f"{base}/account?bounces=0&region={wrong}")
        assert status == 422 and "region" in answer["detail"]


def test_pictures_of_both_and_of_what_is_off(yard):
    shown = {}
    for name in ("standin", "reference", "off"):
        answer = yard["viewer"].get(f"{yard['base']}/compared?bounces=0&shown={name}")
        shown[name] = np.asarray(Image.open(io.BytesIO(answer.content)))
        assert shown[name].shape == (135, 240, 3)
    lost = (slice(58, 88), slice(124, 152))  # where the box's shadow is due
    assert shown["standin"][lost].mean() > shown["reference"][lost].mean() + 10
    orange = (shown["off"][..., 0].astype(int) - shown["off"][..., 2]) > 80
    assert orange[lost].sum() > 100 and orange[100:].sum() == 0


@pytest.mark.parametrize("asked", ["samples=0", "samples=5000", "bounces=99", "shown=nothing", "target=moon"])
def test_what_makes_no_sense_is_refused(yard, asked):
    assert send(yard["viewer"], "GET", f"{yard['base']}/compared?{asked}")[0] == 422
    if not asked.startswith("shown"):
        assert send(yard["viewer"], "GET", f"{yard['base']}/account?{asked}")[0] == 422


def test_a_viewpoint_that_does_not_exist_is_refused_and_strangers_see_nothing(yard):
    nowhere = yard["base"].replace("/eye", "/nowhere")
    assert send(yard["viewer"], "GET", nowhere + "/account")[0] == 422
    if "stranger" in yard:
        assert send(yard["stranger"], "GET", yard["base"] + "/account")[0] == 404


def test_where_the_light_is_is_what_the_command_line_says(yard, capsys):
    main(["where-light", str(yard["path"]), "--viewpoint", "eye", "--samples", "8", "--bounces", "2", "--json", "-"])
    said = json.loads(capsys.readouterr().out)
    assert send(yard["viewer"], "GET", yard["base"] + "/where?samples=8&bounces=2") == (200, said)
    status, part = send(yard["viewer"], "GET", yard["base"] + "/where?samples=8&bounces=2&region=460,230,180,150")
    assert status == 200 and part["places"] == 512 and part["due"] != said["due"]
    assert send(yard["viewer"], "GET", yard["base"] + "/where?region=9,9,9999,9")[0] == 422


def test_what_passes_hold_is_what_the_command_line_says(yard, capsys):
    main(["budget", str(yard["path"]), "--viewpoint", "eye", "--json", "-"])
    (said,) = json.loads(capsys.readouterr().out)
    assert send(yard["viewer"], "GET", yard["base"] + "/targets") == (200, said) and said["bytes"] == 0
    assert send(yard["viewer"], "GET", yard["base"] + "/targets?target=nothing")[0] == 422
    assert send(yard["viewer"], "GET", yard["base"].replace("/eye", "/nowhere") + "/targets")[0] == 422


def test_a_move_is_looked_along_as_the_command_line_does(yard, capsys):
    viewer, base = yard["viewer"], yard["base"]
    assert send(viewer, "GET", base + "/moves") == (200, {"own": [], "stock": ["turn", "approach", "sway"]})
    main(["moves", str(yard["path"]), "--move", "approach", "--viewpoint", "eye", "--crop", "460,230,640,380", "--json", "-"])
    said = json.loads(capsys.readouterr().out)
    ways = "/move?move=approach&region=460,230,180,150"
    status, found = send(viewer, "GET", f"{base}{ways}&drawn=true")
    assert (status, found) == (200, said) and found["holds"] and found["measured_drift"] is not None
    status, forecast = send(viewer, "GET", base + ways)
    assert status == 200 and [m["predicted"] for m in forecast["moments"]] == [m["predicted"] for m in found["moments"]]
    assert sum(m["measured"] is not None for m in forecast["moments"]) == 1 and forecast["measured_drift"] is None
    first, last = (
        np.asarray(Image.open(io.BytesIO(viewer.get(f"{base}/moment?move=approach&at_s={t}&shown=standin").content))).astype(
            float
        )
        for t in (0, 4)
    )
    assert first.shape == (135, 240, 3) and np.abs(first - last).mean() > 3, "the eye has gone on"
    for wrong in ("/move", "/move?move=flight", "/moment?move=sway", "/moment?move=sway&at_s=nan", "/move?move=sway&region=1,2"):
        assert send(viewer, "GET", base + wrong)[0] == 422, wrong
    assert send(viewer, "GET", base.replace("/eye", "/nowhere") + "/moves")[0] == 422


def test_how_materials_answer_is_what_the_command_line_says(yard, capsys):
    viewer, base = yard["viewer"], yard["base"]
    main(["response", str(yard["path"]), "--viewpoint", "eye", "--json", "-"])
    said = json.loads(capsys.readouterr().out)
    assert send(viewer, "GET", base + "/response") == (200, said) and {m["material"] for m in said} == {"floor", "box"}
    main(["swap-shader", str(yard["path"]), "--material", "box", "--to", "stock_cutout", "--json", "-"])
    said = json.loads(capsys.readouterr().out)
    assert send(viewer, "GET", base + "/swap?material=box&to=stock_cutout") == (200, said) and said["sun_delta_e"] < 1
    for wrong in (
        "/swap?material=box",
        "/swap?material=tin&to=stock_opaque",
        "/swap?material=box&to=none",
        "/response?target=moon",
    ):
        assert send(viewer, "GET", base + wrong)[0] == 422, wrong


def test_probes_and_mirrors_are_told_as_the_command_line_does(people, tmp_path, capsys):
    probes = {"hall": {"place_m": [0, 1.5, 3], "low_m": [-4, 0, 0], "high_m": [4, 3, 6], "size": 16, "samples": 4}}
    build, _ = capture(mirror_room(probes=probes, mirrors={"brass": {"node": "panel"}}))
    path = write_build(replace(build, raw_setup=normalised(build.setup)), tmp_path, "room")
    answer = upload(people["artist"], people["project"], path.read_bytes(), path.with_suffix(".setup.json").read_bytes())
    assert answer.status_code == 201, answer.content
    base = f"/api/projects/{people['project'].pk}/builds/1/light/eye"
    main(["probes", str(path), "--viewpoint", "eye", "--json", "-"])
    said = json.loads(capsys.readouterr().out)
    assert send(people["viewer"], "GET", base + "/probes") == (200, said)
    assert said["probes"][0]["fits"] == [{"light_set": None, "missing": False, "why": []}]
    assert said["mirrors"][0]["seen"][0]["pixels"] > 200_000
    assert send(people["viewer"], "GET", base + "/probes?target=moon")[0] == 422


def test_roles_are_held_side_by_side_as_the_command_line_does(yard, capsys):
    viewer, base = yard["viewer"], yard["base"]
    main(["roles", str(yard["path"]), "--viewpoint", "eye", "--first", "output", "--json", "-"])
    said = json.loads(capsys.readouterr().out)
    assert send(viewer, "GET", base + "/roles?first=output") == (200, said) and said["leaves"] == []
    for wrong in ("first=night", "first=play&second=play", "region=1,2"):
        assert send(viewer, "GET", f"{base}/roles?{wrong}")[0] == 422, wrong
