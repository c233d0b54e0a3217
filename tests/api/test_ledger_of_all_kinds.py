"""A ledger takes any mixture of changes, in any order, dropped and put in order again, and always comes to what its changes come to."""

from dataclasses import replace

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from api_helpers import bring, send
from bake_scenes import under_a_partition
from eddyfall.core import defects  # noqa: F401  (registers the operations)
from eddyfall.core.bake.maps.store import StoredLight
from eddyfall.core.handover.package import setup_patch
from eddyfall.core.hashing import freeze
from eddyfall.core.intake import finish_build
from eddyfall.core.scene.changes import OPERATIONS, Change, apply_changes
from eddyfall.core.scene.model import Image, SkyPicture
from eddyfall.core.scene.setup import parse_setup
from eddyfall.workbench.models import Build as Row
from eddyfall.workbench.models import Change as ChangeRow
from eddyfall.workbench.services import builds
from scenes import build_of, write_build
from skies import made

pytestmark = pytest.mark.django_db(transaction=True)

PARAMS = {
    "node.move": {"node": "partition", "by_m": [0.1, 0, 0]},
    "scene.move": {"by_m": [1, 0, -2]},
    "material.metallic": {"material": "floor", "value": 0.5},
    "material.value": {"material": "floor", "role": "specular", "value": 0.25},
    "materials.convert": {"materials": ["floor"]},
    "scene.variant": {"variant": "wet"},
    "node.stand_in": {"node": "second roof", "mesh": "roof", "place": [1, 0, 0, 2, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1]},
    "mesh.turn_normals": {"mesh": "roof"},
    "probes.place": {"probe": "a", "set": {"place_m": [0, 1, 0], "size": 16, "samples": 1}},
    "probes.capture": {},
    "grids.place": {"grid": "g", "set": {"low_m": [-1, 0, -1], "high_m": [1, 1, 1], "counts": [2, 2, 2], "samples": 16}},
    "grids.capture": {},
    "face.add_backs": {"mesh": "partition"},
    "face.rewind": {"mesh": "roof"},
    "face.delete_hidden": {"mesh": "roof", "node": "roof", "pack": False},
    "uv.repack": {"mesh": "floor"},
    "uv.pack": {"mesh": "floor", "texels_per_m": 4, "gutter_texels": 2},
    "uv.align": {"mesh": "floor"},
    "uv.join": {"mesh": "floor", "flat_deg": 1.0},
    "uv.split": {"mesh": "floor", "node": "floor", "point_m": [3.03, 0, 0], "normal": [1, 0, 0]},
    "uv.share_tile": {"mesh": "floor"},
    "copies.own_parts": {"mesh": "floor"},
    "texture.dilate": {"image": "net", "texels": 1},
    "texture.spread_colour": {"image": "net"},
    "mesh.trim": {"mesh": "partition", "corners": 6},
    "bake.run": {"maps": [["floor", None]]},
    "sky.take_sun_out": {"picture": "noon.exr", "light": "sky_sun"},
}
LEAVES = {
    "fog on": [("replace", "/fog/enabled", False, True)],
    "thin fog": [("replace", "/fog/fog_per_m", 0.0, 0.01)],
    "no shadow of the roof": [("add", "/nodes/roof", None, {"casts": False})],
    "roof without depth": [("add", "/shaders/bare", None, {"passes": {"depth": False}})],
}


def kinds():
    for name, params in PARAMS.items():
        yield {"id": name, "title": name, "scope": "project", "operation": {"name": name, "params": params}}
    for title, ops in LEAVES.items():
        patch = []
        for op, path, old, new in ops:
            patch += [{"op": "test", "path": path, "value": old}] if op == "replace" else []
            patch += [{"op": op, "path": path, "value": new}]
        yield {"id": title, "title": title, "scope": "project", "patch": patch}


KINDS = list(kinds())


def test_every_operation_there_is_takes_part():
    assert set(PARAMS) == set(OPERATIONS)


@pytest.fixture
def hall(people, tmp_path):
    build = under_a_partition(16, samples=1)
    scene = build_of(images=(Image("net", _checks()),)).scene
    build = finish_build(
        type(build.scene)(build.scene.meshes, build.scene.nodes, build.scene.materials, scene.images), parse_setup(build.raw_setup),
        build.raw_setup, [],
    )  # fmt: skip
    build = replace(build, scene=build.scene.with_sky(SkyPicture("noon.exr", freeze(made(32, fine=64)))))
    return bring(people, write_build(build, tmp_path, "hall"))


def _checks():
    import numpy as np

    from eddyfall.core.hashing import freeze

    pixels = np.full((8, 8, 4), 255, np.uint8)
    pixels[::2] = (20, 40, 60, 0)
    return freeze(pixels)


STEPS = st.lists(
    st.tuples(st.just("keep"), st.sampled_from(KINDS)) | st.tuples(st.sampled_from(["drop", "order"]), st.integers(0, 10**6)),
    min_size=2, max_size=9,
)  # fmt: skip


@settings(max_examples=25, deadline=None, database=None, derandomize=True, suppress_health_check=list(HealthCheck))
@given(steps=STEPS)
def test_any_mixture_is_kept_dropped_and_reordered(hall, steps):
    ChangeRow.objects.all().delete()
    Row.objects.update(patch=None)
    ledger = send(hall["artist"], "GET", hall["base"] + "/ledger")[1]
    kept: list[dict] = []
    for what, value in steps:
        where = hall["base"] + "/ledger"
        if what == "keep":
            status, body = send(hall["artist"], "POST", where, {"change": value}, ledger["version"])
            assert status in (201, 409), (value, body)
            kept += [value] if status == 201 else []
        elif not kept:
            continue
        elif what == "drop":
            rows = [c for c in ledger["changes"] if c["dropped"] is None]
            status, body = send(hall["artist"], "POST", f"{where}/{rows[value % len(rows)]['id']}/drop", None, ledger["version"])
            assert status in (200, 409), body
            if status == 200:
                del kept[value % len(rows)]
        else:
            rows = [c["id"] for c in ledger["changes"] if c["dropped"] is None]
            turn = value % len(rows)
            order = rows[turn:] + rows[:turn]
            status, body = send(hall["artist"], "POST", where + "/order", {"order": order}, ledger["version"])
            assert status in (200, 409), body
            if status == 200:
                kept = kept[turn:] + kept[:turn]
        ledger = send(hall["artist"], "GET", where)[1]
        assert [c["title"] for c in ledger["changes"] if c["dropped"] is None] == [c["title"] for c in kept]
        base = builds.open_core(Row.objects.get())
        result = apply_changes(base, [Change.model_validate(c) for c in kept], StoredLight(gathers=False))
        assert ledger["patch"] == setup_patch(base, result)
        assert builds.head(Row.objects.get()).content_hash == result.content_hash


def test_after_a_bake_a_setting_is_kept_and_after_that_a_node_is_moved(hall):
    """What was refused with 500: settings after a change that is an operation, and the other way round."""
    by_name = {k["id"]: k for k in KINDS}
    version = 1
    for name in ("bake.run", "fog on", "node.move", "thin fog"):
        status, body = send(hall["artist"], "POST", hall["base"] + "/ledger", {"change": by_name[name]}, version)
        assert status == 201, (name, body)
        version = body["version"]
    assert send(hall["artist"], "POST", hall["base"] + "/ledger", {"change": by_name["fog on"]}, version)[0] == 409


def test_an_order_that_does_not_apply_is_refused_and_changes_nothing(hall):
    first, version = KINDS[list(PARAMS).index("uv.repack")], 1
    ops = [{"op": "test", "path": "/fog/fog_per_m", "value": 0.01}, {"op": "replace", "path": "/fog/fog_per_m", "value": 0.02}]
    second = {"id": "again", "title": "again", "scope": "project", "patch": ops}
    for change in (first, KINDS[len(PARAMS) + 1], second):
        status, body = send(hall["artist"], "POST", hall["base"] + "/ledger", {"change": change}, version)
        assert status == 201, body
        version = body["version"]
    rows = [c["id"] for c in body["changes"]]
    where = hall["base"] + "/ledger/order"
    status, refused = send(hall["artist"], "POST", where, {"order": [rows[2], rows[0], rows[1]]}, version)
    assert status == 409 and "no longer there" in refused["detail"]
    assert send(hall["artist"], "POST", where, {"order": rows[:2]}, version)[0] == 422
    assert send(hall["artist"], "POST", where, {"order": rows}, version - 1)[0] == 409
    assert send(hall["viewer"], "POST", where, {"order": rows}, version)[0] == 403
    assert [c["id"] for c in send(hall["viewer"], "GET", hall["base"] + "/ledger")[1]["changes"]] == rows
    status, after = send(hall["artist"], "POST", where, {"order": [rows[1], rows[2], rows[0]]}, version)
    assert status == 200 and [c["id"] for c in after["changes"]] == [rows[1], rows[2], rows[0]]


def test_a_bake_of_what_does_not_exist_and_evidence_without_end_are_refused(hall):
    bake = {"id": "b", "title": "b", "scope": "project", "operation": {"name": "bake.run", "params": {"maps": [["attic", None]]}}}
    status, body = send(hall["artist"], "POST", hall["base"] + "/ledger", {"change": bake}, 1)
    assert status == 422 and "'attic' does not exist" in body["detail"]
    ask = {"change": KINDS[0], "evidence": {"note": "x" * 70_000}}
    status, body = send(hall["artist"], "POST", hall["base"] + "/ledger", ask, 1)
    assert status == 422 and body["detail"].startswith("evidence")
