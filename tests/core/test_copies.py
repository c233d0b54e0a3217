"""Copies as an exporter makes them: places, winding, UV offsets, material parts; and charts made anew."""

import numpy as np
import pytest

from eddyfall.core.defects.uv_overlap import CODE
from eddyfall.core.errors import ChangeError, SceneError
from eddyfall.core.scene.changes import Change, Operation, apply_change
from eddyfall.core.scene.copies import evaluate_copies
from eddyfall.core.scene.model import Mesh
from eddyfall.core.scene.setup.tables import CopyRule, MirrorPlane
from eddyfall.core.sweep import sweep
from eddyfall.demo.shapes import Shape, grid_charts
from scenes import GREY, Thing, build_of, flat

CARD = Shape().quad((0, 0, 0), (1, 0, 0), (0, 2, 0))
CHART = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], float) * 0.5


def mesh_of(lightmap=CHART):
    return Mesh("card", (CARD.primitive(0, lightmap),))


def normals_of(part):
    """Geometric normals of a part's triangles."""
    a, b, c = (part.positions[part.indices[:, k]] for k in range(3))
    return np.cross(b - a, c - a)


def test_an_array_shifts_each_copy_and_its_chart_by_so_many_steps():
    rule = CopyRule(kind="array", count=4, step_m=(0.0, 0.0, -3.0), uv_offset=(1.0, 0.5))
    [part] = evaluate_copies(mesh_of(), {"run": rule}, 1, ("grey",)).primitives
    assert part.triangles == 4 * 2
    for i in range(4):
        np.testing.assert_allclose(part.positions[i * 4 : i * 4 + 4] - part.positions[:4], [[0, 0, -3 * i]] * 4)
        np.testing.assert_allclose(part.attributes["TEXCOORD_1"][i * 4 : i * 4 + 4], CHART + np.array([i, i * 0.5]), atol=1e-6)


@pytest.mark.parametrize(("axes", "copies"), [(("x",), 2), (("x", "z"), 4), (("x", "y", "z"), 8)])
def test_a_mirror_doubles_for_each_axis_and_turns_the_winding_back(axes, copies):
    at = {"x": 2.0, "y": 0.0, "z": 1.0}
    rule = CopyRule(kind="mirror", planes=tuple(MirrorPlane(axis=a, at_m=at[a]) for a in axes))
    [part] = evaluate_copies(mesh_of(), {"m": rule}, 1, ("grey",)).primitives
    assert part.triangles == 2 * copies
    facing = normals_of(part)
    stored = part.attributes["NORMAL"][part.indices[:, 0]]
    assert ((facing * stored).sum(axis=1) > 0).all(), "faces look where their normals say"
    assert part.positions[:, 0].max() == pytest.approx(4.0) if "x" in axes else True


@pytest.mark.parametrize(
    ("steps", "tiles"),
    [(((1.0, 0.0), (1.0, 0.0)), [(0, 0), (1, 0), (1, 0), (2, 0)]), (((1.0, 0.0), (0.0, 1.0)), [(0, 0), (0, 1), (1, 0), (1, 1)])],
)
def test_each_plane_of_a_mirror_moves_the_charts_of_what_it_mirrors_by_its_own_step(steps, tiles):
    planes = tuple(MirrorPlane(axis=a, uv_offset=s) for a, s in zip("xy", steps))
    [part] = evaluate_copies(mesh_of(), {"m": CopyRule(kind="mirror", planes=planes)}, 1, ("grey",)).primitives
    found = [tuple(np.floor(part.attributes["TEXCOORD_1"][i * 4 : i * 4 + 4].min(axis=0)).astype(int)) for i in range(4)]
    assert sorted(found) == tiles
    turned = CopyRule(kind="mirror", planes=planes, uv_mirrored=True)
    [part] = evaluate_copies(mesh_of(), {"m": turned}, 1, ("grey",)).primitives
    across = part.attributes["TEXCOORD_1"][4:8]  # the copy that only the plane across x made
    np.testing.assert_allclose(across, CHART * [-1, 1] + [2, 0], atol=1e-6)


def test_rules_apply_in_order_each_on_what_the_one_before_made():
    rules = {
        "b": CopyRule(kind="array", count=3, step_m=(5.0, 0.0, 0.0), order=1),
        "a": CopyRule(kind="mirror", planes=(MirrorPlane(axis="z"),), order=0),
    }
    assert evaluate_copies(mesh_of(), rules, 1, ("grey",)).primitives[0].triangles == 2 * 2 * 3


def test_copies_with_a_material_of_their_own_are_a_part_of_their_own():
    rule = CopyRule(kind="array", count=3, material="red")
    parts = evaluate_copies(mesh_of(), {"run": rule}, 1, ("grey", "red")).primitives
    assert [(p.material, p.triangles) for p in parts] == [(0, 2), (1, 4)]
    build = build_of(
        Thing("card", CARD, lightmap=CHART), Thing("other", CARD, flat("red", 0.5), place=(9, 0, -3)),
        setup={"meshes": {"card": {"lightmap_uv": 1, "copies": {"run": {"count": 3, "material": "red"}}}}},
    )  # fmt: skip
    assert GREY.name in build.scene.material_keys


def test_too_many_copies_are_refused():
    rules = {f"r{i}": CopyRule(kind="array", count=4096, order=i) for i in range(3)}
    with pytest.raises(SceneError, match="more than 20000000 triangles"):
        evaluate_copies(mesh_of(), rules, 1, ("grey",))


@pytest.fixture
def rail():
    shape = Shape().box((0, 0, -4), (0.4, 1, -3.6))
    return build_of(
        Thing("rail", shape, lightmap=grid_charts(shape)),
        setup={"bake": {"resolution": 256}, "meshes": {"rail": {"lightmap_uv": 1, "copies": {"run": {"count": 6}}}}},
    )


def operate(build, name, **params):
    return apply_change(build, Change(id="x", scope="mesh", operation=Operation(name=name, params=params)))


@pytest.mark.parametrize("name", ["uv.repack", "uv.share_tile"])
def test_charts_made_anew_lie_in_one_tile_and_share_nothing(name, rail):
    assert [f.code for f in sweep(rail, size=(96, 54)).findings] == [CODE]
    after = operate(rail, name, mesh="rail")
    assert [f.code for f in sweep(after, size=(96, 54)).findings] == []
    from eddyfall.core.scene.drawables import final_mesh

    before_mesh, mesh = (final_mesh(b.scene, b.setup, 0) for b in (rail, after))
    uv = np.concatenate([p.attributes["TEXCOORD_1"] for p in mesh.primitives])
    assert uv.min() >= -1e-6 and uv.max() <= 1 + 1e-6
    assert sum(p.triangles for p in mesh.primitives) == sum(p.triangles for p in before_mesh.primitives)
    assert bool(after.setup.meshes["rail"].copies) == (name == "uv.share_tile"), "only repacking evaluates the copies for good"
    first = np.concatenate([p.positions[p.indices.ravel()] for p in before_mesh.primitives])
    second = np.concatenate([p.positions[p.indices.ravel()] for p in mesh.primitives])
    np.testing.assert_allclose(np.sort(first, axis=0), np.sort(second, axis=0), atol=1e-6)


@pytest.mark.parametrize(
    ("name", "params"),
    [
        ("uv.repack", {"mesh": "no"}),
        ("uv.repack", {"mesh": "rail", "gutter_texels": 900}),
        ("uv.share_tile", {"mesh": "no"}),
        ("uv.share_tile", {}),
    ],
)
def test_operations_refuse_what_they_cannot_do(name, params, rail):
    with pytest.raises(ChangeError):
        operate(rail, name, **params)
