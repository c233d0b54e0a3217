"""Overlapping lightmap charts (the worked case of overlapping lightmap charts) through copy rules, material parts and the
target's rule."""

import numpy as np
import pytest

from eddyfall.core.defects.uv_overlap import CODE
from eddyfall.core.intake import open_build
from eddyfall.core.scene.changes import apply_change
from eddyfall.core.scene.copies import evaluate_copies
from eddyfall.core.scene.setup.tables import CopyRule
from eddyfall.core.sweep import sweep
from eddyfall.demo.shapes import Shape
from scenes import GREY, Thing, build_of, flat, write_build

SIZE = (160, 90)


def leaf(u: float = 0.8, v: float = 0.5) -> tuple[Shape, np.ndarray]:
    """A gate leaf whose chart fills u x v of the tile."""
    shape = Shape().quad((0.2, 0.2, -8), (2.0, 0, 0), (0, 1.25, 0))
    return shape, np.array([[0, v], [u, v], [u, 0], [0, 0]])


def gate(copies: dict, bake: dict | None = None, more: list | None = None, lightmap_uv: int | None = 1):
    shape, charts = leaf()
    mesh = {"copies": copies} | ({"lightmap_uv": lightmap_uv} if lightmap_uv is not None else {})
    thing = Thing("gate_leaf", shape, lightmap=charts, more_parts=more or [])
    return build_of(thing, setup={"meshes": {"gate_leaf": mesh}, "bake": {"resolution": 200, **(bake or {})}})


def finding_of(build):
    findings = [f for f in sweep(build, size=SIZE).findings if f.code == CODE]
    assert len(findings) <= 1
    return findings[0] if findings else None


def values(finding) -> dict[str, float]:
    return {e.measure: e.value for e in finding.evidence}


BOTH_AXES = {"kind": "mirror", "planes": [{"axis": "x", "uv_offset": [1, 0]}, {"axis": "y", "uv_offset": [1, 0]}]}
OWN_STEPS = {"kind": "mirror", "planes": [{"axis": "x", "uv_offset": [1, 0]}, {"axis": "y", "uv_offset": [0, 1]}]}
TWO_RULES = {
    "across": {"kind": "mirror", "planes": [{"axis": "x", "uv_offset": [1, 0]}], "order": 0},
    "up": {"kind": "mirror", "planes": [{"axis": "y", "uv_offset": [0, 1]}], "order": 1},
}


def test_two_planes_that_share_a_step_collide_in_spite_of_it():
    # The worked case of overlapping lightmap charts: copies at 0, 1, 1, 2: 33.3 % of texels, 50 % of surface.
    finding = finding_of(gate({"both": BOTH_AXES}))
    assert values(finding)["surface doubled"] == pytest.approx(50)
    assert values(finding)["texels doubled"] == pytest.approx(100 / 3, abs=1e-6)


@pytest.mark.parametrize("rules", [{"both": OWN_STEPS}, TWO_RULES], ids=["two planes of one rule", "two rules"])
def test_planes_with_a_step_each_are_clean_unless_used_as_they_are(rules):
    # The worked case of overlapping lightmap charts: positions (0,0) (1,0) (0,1) (1,1): nothing; modulo 1 it is all still there.
    assert finding_of(gate(rules)) is None
    as_is = finding_of(gate(rules, {"uv_use": "as_is"}))
    assert values(as_is)["surface doubled"] == pytest.approx(100)


@pytest.mark.parametrize("count", [2, 3, 7])
@pytest.mark.parametrize("offset", [[0, 0], [1, 0], [0, 1], [0.5, 0]])
def test_arrays(count, offset):
    finding = finding_of(gate({"run": {"kind": "array", "count": count, "step_m": [2.1, 0, 0], "uv_offset": offset}}))
    if offset == [0, 0]:
        assert values(finding)["surface doubled"] == pytest.approx(100)
    elif offset == [0.5, 0]:
        # Charts .8 wide every .5: neighbours share .3; the end ones .3, the inner ones .3 on either side.
        shared = 0.3 * 2 * (count - 1)
        assert values(finding)["surface doubled"] == pytest.approx(100 * shared / (0.8 * count))
    else:
        assert finding is None


@pytest.mark.parametrize("uv_use", ["repacked", "as_is"])
@pytest.mark.parametrize(
    "copies",
    [
        {"both": BOTH_AXES},
        {"run": {"kind": "array", "count": 6, "step_m": [2.1, 0, 0]}},
        {
            "flip": {"kind": "mirror", "planes": [{"axis": "x"}]},
            "run": {"kind": "array", "count": 3, "step_m": [0, 2, 0], "order": 1},
        },
    ],
    ids=["mirror on two axes", "array", "mirror then array"],
)
def test_every_remedy_that_says_it_cures_does(copies, uv_use):
    build = gate(copies, {"uv_use": uv_use})
    finding = finding_of(build)
    cures = [r for r in finding.remedies if r.verdict == "cures"]
    assert cures and finding.best is cures[0]
    for remedy in cures:
        assert finding_of(apply_change(build, remedy.change)) is None, remedy.change.title


def test_sharing_one_tile_halves_the_density_of_two_copies():
    # The worked case of overlapping lightmap charts: a 2 m copy, .8 x 256 texels: 102.4 texels/m; two copies side by side in
    # one tile leave 51.2.
    build = gate({"flip": {"kind": "mirror", "planes": [{"axis": "x"}]}}, {"uv_use": "as_is", "resolution": 256})
    share = next(r for r in finding_of(build).remedies if r.change.operation and r.change.operation.name == "uv.share_tile")
    assert share.verdict == "cures"
    cost = {c.name: c.value for c in share.costs}
    assert cost["texel density along u falls to"] == pytest.approx(50)
    assert cost["memory to keep the texel density"] == 256 * 256 * 8


def test_material_parts():
    other_shape, charts = leaf()
    more = [(other_shape, flat("steel", 0.4), charts)]
    # Two parts on one chart collide where the mesh has one lightmap, not where each part has its own.
    assert values(finding_of(gate({}, more=more)))["surface doubled"] == pytest.approx(100)
    assert finding_of(gate({}, {"unique_per": "part"}, more=more)) is None
    # A part of its own for the one copy of a mirror works the same way.
    rule = {"flip": {"kind": "mirror", "planes": [{"axis": "x"}], "material": "steel"}}
    shape, uv = leaf()
    steel = Thing("swatch", Shape().quad((5, 5, -8), (1, 0, 0), (0, 1, 0)), flat("steel", 0.4))
    for unique_per, clean in (("mesh", False), ("part", True)):
        build = build_of(
            Thing("gate_leaf", shape, lightmap=uv), steel,
            setup={"meshes": {"gate_leaf": {"lightmap_uv": 1, "copies": rule}}, "bake": {"unique_per": unique_per}},
        )  # fmt: skip
        assert (finding_of(build) is None) == clean


def test_partial_overlap_of_known_area():
    # Two charts .6 x .6 shifted by (.4, .3): they share .2 x .3 = .06 of .72.
    shape = Shape().quad((0, 0, -8), (1, 0, 0), (0, 1, 0)).quad((1.5, 0, -8), (1, 0, 0), (0, 1, 0))
    square = np.array([[0, 0.6], [0.6, 0.6], [0.6, 0], [0, 0]])
    build = build_of(
        Thing("panel", shape, lightmap=np.concatenate([square, square + np.array([0.4, 0.3])])),
        setup={"bake": {"resolution": 200}},
    )
    found = values(finding_of(build))
    assert found["surface doubled"] == pytest.approx(100 * 2 * 0.06 / 0.72, rel=1e-6)
    assert found["texels doubled"] == pytest.approx(100 * 0.06 / (0.72 - 0.06), rel=1e-6)


def test_a_second_uv_set_is_judged_once_the_setup_says_that_a_lightmap_uses_it(tmp_path):
    shape, charts = leaf()
    double = Shape().quad((0, 0, -8), (1, 0, 0), (0, 1, 0)).quad((1.5, 0, -8), (1, 0, 0), (0, 1, 0))
    build = build_of(
        Thing("healthy", shape, lightmap=charts),
        Thing("stacked", double, lightmap=np.concatenate([charts, charts])),
        Thing("not_lightmapped", Shape().quad((0, 2, -8), (1, 0, 0), (0, 1, 0)).quad((0, 3, -8), (1, 0, 0), (0, 1, 0))),
    )
    path = write_build(build, tmp_path)
    assert [f.suspicion.cause for f in sweep(open_build(path), size=SIZE).findings if f.code == CODE] == ["stacked"]
    path.with_name("scene.setup.json").unlink()
    read = open_build(path)
    assert not [f for f in sweep(read, size=SIZE).findings if f.code.startswith("uv.")]
    assert any("if a lightmap uses it, say meshes.stacked.lightmap_uv 1" in note for note in read.notes)


def test_copies_turn_winding_and_normals_with_them():
    shape, charts = leaf()
    build = build_of(Thing("gate_leaf", shape, lightmap=charts))
    rules = {"both": CopyRule.model_validate(BOTH_AXES, strict=False)}
    (part,) = evaluate_copies(build.scene.meshes[0], rules, 1, build.scene.material_keys).primitives
    assert part.triangles == 8
    corners = part.positions[part.indices]
    facing = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    assert (facing[:, 2] > 0).all(), "mirrored copies of a face towards +z still face +z"
    assert (part.attributes["NORMAL"][:, 2] == 1).all()
    assert sorted({round(float(u)) for u in np.floor(part.attributes["TEXCOORD_1"][:, 0])}) == [0, 1, 2]


def test_parts_without_lightmap_uv_are_not_judged():
    assert finding_of(build_of(Thing("plain", leaf()[0], GREY))) is None
