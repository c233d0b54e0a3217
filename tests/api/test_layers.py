"""What the Draw order sheet asks: orders, layers of a pixel and moves as the command line says them, and pictures of both orders."""

import io
import json

import numpy as np
import pytest
from PIL import Image

from api_helpers import send, upload
from eddyfall.cli import main
from edge_scenes import leaf_on, leaves_before
from glass_scenes import two_panes
from layer_scenes import mist_and_cutter
from scenes import write_build

pytestmark = pytest.mark.django_db(transaction=True)
KEYS = {"a": {"t_s": 0, "viewpoint": "left"}, "b": {"t_s": 1, "viewpoint": "right"}}
VIEWS = {n: {"eye": [x, 1.6, 0.0], "target": [x, 1.6, -1.0], "fov_y_deg": 55} for n, x in (("left", -1), ("right", 1))}


@pytest.fixture
def walk(people, tmp_path):
    path = write_build(mist_and_cutter(viewpoints=VIEWS, moves={"walk": {"keys": KEYS}}), tmp_path, "mist")
    answer = upload(people["artist"], people["project"], path.read_bytes(), path.with_suffix(".setup.json").read_bytes())
    assert answer.status_code == 201, answer.content
    return {"path": path, "base": f"/api/projects/{people['project'].pk}/builds/1/layers/left", **people}


def test_orders_layers_and_moves_are_what_the_command_line_says(walk, capsys):
    viewer, base = walk["viewer"], walk["base"]
    for asked, ways in (
        ("/order?", ("--viewpoint", "left")), ("/strata?x=700&y=270", ("--viewpoint", "left", "--at", "700,270")),
        ("/walk?move=walk", ("--move", "walk")), ("/floor?", ("--floor",)),
    ):  # fmt: skip
        main(["flip-map" if "--floor" in ways else "order", str(walk["path"]), *ways, "--json", "-"])
        assert send(viewer, "GET", base + asked) == (200, json.loads(capsys.readouterr().out)), asked
    status, posed = send(viewer, "GET", base + "/strata?x=480&y=270&move=walk&at_s=1")
    assert status == 200 and [s["drawable"] for s in posed["strata"]] == ["mist", "cutter"] and posed["true"] == [0, 1]


def test_pictures_of_both_orders(walk):
    pictures = {}
    for shown in ("drawn", "true"):
        answer = walk["viewer"].get(f"{walk['base']}/picture?shown={shown}")
        assert answer.status_code == 200 and answer["Content-Type"] == "image/png"
        pictures[shown] = np.asarray(Image.open(io.BytesIO(answer.content)))
    assert pictures["drawn"].shape == (540, 960, 3) and (pictures["drawn"] != pictures["true"]).any(axis=2).sum() > 15_000
    moved = walk["viewer"].get(walk["base"] + "/picture?shown=drawn&move=walk&at_s=1")
    assert moved.status_code == 200 and moved.content != answer.content


@pytest.mark.parametrize("asked", ["/strata?x=960&y=0", "/walk?move=none", "/picture?shown=other", "/strata?x=1", "/walk"])
def test_what_makes_no_sense_is_refused(walk, asked):
    assert send(walk["viewer"], "GET", walk["base"] + asked)[0] == 422


def test_glass_and_its_chain_are_what_the_command_line_says(people, tmp_path, capsys):
    path = write_build(two_panes(), tmp_path, "panes")
    upload(people["artist"], people["project"], path.read_bytes(), path.with_suffix(".setup.json").read_bytes())
    base, viewer = f"/api/projects/{people['project'].pk}/builds/1/layers/eye", people["viewer"]
    main(["glass", str(path), "--viewpoint", "eye", "--json", "-"])
    assert send(viewer, "GET", base + "/glass") == (200, json.loads(capsys.readouterr().out))
    main(["glass", str(path), "--viewpoint", "eye", "--at", "480,270", "--json", "-"])
    assert send(viewer, "GET", base + "/chain?x=480&y=270") == (200, {"chain": json.loads(capsys.readouterr().out)})
    main(["pass-table", str(path), "--viewpoint", "eye", "--json", "-"])
    assert send(viewer, "GET", base + "/pass-table") == (200, json.loads(capsys.readouterr().out))
    assert send(viewer, "GET", base + "/chain?x=3&y=3") == (200, {"chain": None})
    assert send(viewer, "GET", base + "/chain?x=960&y=3")[0] == 422
    assert send(people["stranger"], "GET", base + "/chain?x=3&y=3")[0] == 404


def test_leftovers_of_the_order_are_what_the_command_line_says(people, tmp_path, capsys):
    path = write_build(mist_and_cutter(1.0, nodes={"mist": {"draw_rank": -1}}), tmp_path, "left_over")
    upload(people["artist"], people["project"], path.read_bytes(), path.with_suffix(".setup.json").read_bytes())
    base, viewer = f"/api/projects/{people['project'].pk}/builds/1/leftovers", people["viewer"]
    main(["leftovers", str(path), "--of", "order", "--json", "-"])
    assert send(viewer, "GET", base + "?of=order") == (200, json.loads(capsys.readouterr().out))
    assert [s["setting"] for s in send(viewer, "GET", base)[1]["settings"]] == ["shadow.enabled"], "of shadows by themselves"
    assert send(viewer, "GET", base + "?of=colour")[0] == 422


def test_strangers_see_nothing(walk):
    assert send(walk["stranger"], "GET", walk["base"] + "/order")[0] == 404


def test_edges_costs_shadows_and_eyes_are_what_the_command_line_says(walk, capsys):
    viewer, base, path = walk["viewer"], walk["base"], str(walk["path"])
    for asked, ways in (
        ("/edges", ("edges", path, "--viewpoint", "left")), ("/overdraw", ("overdraw", path, "--viewpoint", "left")),
        ("/shadow-through", ("shadow-through", path, "--viewpoint", "left")), ("/eyes", ("eyes", path, "--viewpoint", "left")),
        ("/eyes?move=walk", ("eyes", path, "--viewpoint", "left", "--move", "walk")),
    ):  # fmt: skip
        main([*ways, "--json", "-"])
        assert send(viewer, "GET", base + asked) == (200, json.loads(capsys.readouterr().out)), asked
    assert send(viewer, "GET", base + "/eyes?move=nowhere")[0] == 422
    assert send(viewer, "GET", base.replace("/left", "/nowhere") + "/edges")[0] == 422
    assert send(walk["stranger"], "GET", base + "/overdraw")[0] == 404


def test_a_picture_with_edges_put_right(people, tmp_path):
    path = write_build(leaves_before(0.05, leaf_on((255, 255, 255)), "MASK"), tmp_path, "leaves")
    upload(people["artist"], people["project"], path.read_bytes(), path.with_suffix(".setup.json").read_bytes())
    base = f"/api/projects/{people['project'].pk}/builds/1/layers/eye/picture"
    shown = {
        how: np.asarray(Image.open(io.BytesIO(people["viewer"].get(f"{base}?shown={how}").content))).astype(int)
        for how in ("drawn", "right")
    }
    off = np.abs(shown["drawn"] - shown["right"]).max(axis=2)
    assert (off > 20).sum() > 100 and (shown["right"] <= shown["drawn"]).all(), (
        "the white rim is gone, and nothing else has changed"
    )
