"""The setup document: strict reading, resolve order, and what changes to the resolved settings must touch."""

import json

import pytest

from eddyfall.core.errors import RequestError, SetupError
from eddyfall.core.frame.affects import affects, described_schema
from eddyfall.core.scene.changes import apply_change, set_resolved
from eddyfall.core.scene.read.container import parse_json
from eddyfall.core.scene.resolve import resolve
from eddyfall.core.scene.setup import normalised, parse_setup, read_setup
from eddyfall.core.scene.setup.sections.exposure import Exposure
from eddyfall.core.scene.setup.sections.fog import Fog
from eddyfall.core.scene.setup.sections.shadow import Shadow
from scenes import Thing, build_of, wall

VIEW = {"eye": [0, 0, 0], "target": [0, 0, -1]}


def document(**parts):
    return {"eddyfall_setup": 1, **parts}


@pytest.mark.parametrize(
    ("parts", "where", "rule"),
    [
        ({"fog": {"fog_per_m": -1}}, "fog.fog_per_m", "greater than or equal to 0"),
        ({"fog": {"density": 1}}, "fog.density", "unknown key"),
        ({"shadow": {"reach_m": "far"}}, "shadow.reach_m", "valid number"),
        ({"depth": {"near_m": 10, "far_m": 5}}, "depth.far_m", "beyond near_m"),
        ({"depth": {"copy_from": "both"}}, "depth.copy_from", "'none'"),
        ({"materials": {"rope": {"shader": "net"}}}, "materials.rope.shader", "'net' is not in shaders"),
        ({"viewpoints": {"a": {"eye": [0, 0, 0]}}}, "viewpoints.a", "a camera, or eye and target"),
        ({"viewpoints": {"a": {**VIEW, "role": "night"}}}, "viewpoints.a.role", "'night' is not in roles"),
        ({"viewpoints": {"a": {**VIEW, "set": {"fog": {"enabled": True}}}}}, "viewpoints.a.set", "may set exposure"),
        ({"targets": {"slate": {"set": {"fogg": {}}}}}, "targets.slate.set", "not 'fogg'"),
        ({"roles": {"edit": {"set": {"depth": {"near": 1}}}}}, "roles.edit.set.depth", "unknown key 'near'"),
        ({"targets": {"slate": {"set": {"shadow": {"cascades": 99}}}}}, "targets.slate.set.shadow.cascades", "less than"),
        ({"nodes": []}, "nodes", "dictionary"),
        ({"meshes": {"rail": {"copies": {"run": {"count": 10**9}}}}}, "meshes.rail.copies.run.count", "less than"),
    ],
)
def test_a_broken_field_is_named_with_its_path_and_rule(parts, where, rule):
    with pytest.raises(SetupError) as caught:
        parse_setup(document(**parts))
    assert caught.value.where == where
    assert rule in caught.value.rule


@pytest.mark.parametrize(
    "text", ['{"eddyfall_setup": 1, "fog": {"fog_per_m": NaN}}', '{"a": 1e400}', '{"a": -Infinity}', "[1]", "{"]
)
def test_numbers_json_does_not_allow_are_refused(text, tmp_path):
    path = tmp_path / "a.setup.json"
    path.write_text(text)
    with pytest.raises(SetupError) as caught:
        read_setup(path)
    assert str(caught.value).startswith("a.setup.json: ")


def test_keys_that_start_with_x_are_kept_and_others_refused():
    raw = document(x_note="ours", fog={"x_who": {"any": [1]}, "enabled": True})
    assert parse_setup(raw).fog.enabled
    with pytest.raises(SetupError, match="unknown key"):
        parse_setup(document(note="ours"))


def test_resolve_lays_target_over_project_role_over_target_and_viewpoint_over_all():
    setup = parse_setup(
        document(
            exposure={"mode": "fixed", "ev100": 10},
            shadow={"reach_m": 100.0},
            targets={"slate": {"set": {"shadow": {"reach_m": 60.0}, "exposure": {"ev100": 11.0}}}},
            roles={"edit": {"set": {"shadow": {"reach_m": 40.0}, "exposure": {"ev100": 12.0}}}, "play": {}},
            viewpoints={"bench": {**VIEW, "role": "edit", "set": {"exposure": {"ev100": 13.0}}}, "quay": VIEW},
        )
    )
    assert resolve(setup)[Shadow].reach_m == 100
    assert resolve(setup, "slate")[Shadow].reach_m == 60
    both = resolve(setup, "slate", None, "bench")
    assert (both[Shadow].reach_m, both[Exposure].ev100) == (40, 13)
    leaf = both.leaves["exposure.ev100"]
    assert leaf.winner == "viewpoint bench"
    assert leaf.losers == (("role edit", 12.0), ("target slate", 11.0), ("project", 10.0), ("default", 0.0))
    assert resolve(setup, "slate", None, "quay")[Shadow].reach_m == 60
    assert resolve(setup, None, "edit", "quay")[Shadow].reach_m == 40, "a role that is asked for wins over the viewpoint's own"
    assert both.leaves["fog.enabled"].winner == "default"


@pytest.mark.parametrize("asked", [{"target": "no"}, {"role": "no"}, {"viewpoint": "no"}])
def test_unknown_names_are_refused_with_what_there_is(asked):
    setup = parse_setup(document(targets={"slate": {}}, viewpoints={"quay": VIEW}))
    with pytest.raises(RequestError, match="'no' does not exist; there are"):
        resolve(setup, **asked)


@pytest.mark.parametrize(
    ("target", "role", "viewpoint", "path"),
    [
        (None, None, "eye", "/fog/fog_per_m"),
        ("slate", None, "eye", "/targets/slate/set/fog/fog_per_m"),
        ("slate", "edit", "eye", "/roles/edit/set/fog/fog_per_m"),
    ],
)
def test_a_change_is_written_where_it_wins(target, role, viewpoint, path):
    over = {"targets": {"slate": {"set": {"fog": {"fog_per_m": 0.2}}}}, "roles": {"edit": {"set": {"fog": {"fog_per_m": 0.3}}}}}
    build = build_of(Thing("wall", wall(5)), setup={"fog": {"fog_per_m": 0.1}, **over})
    resolved = resolve(build.setup, target, role, viewpoint)
    change = set_resolved(build, resolved, {"fog.fog_per_m": 0.05}, title="thinner")
    assert change.patch[-1].path == path
    assert resolve(apply_change(build, change).setup, target, role, viewpoint)[Fog].fog_per_m == 0.05


def test_every_settable_leaf_has_unit_meaning_and_passes():
    schema = described_schema()
    sections = [schema["$defs"][name] for name in ("Depth", "Shadow", "Fog", "Exposure", "Textures", "Order", "Bake")]
    for section in sections:
        for name, field in section["properties"].items():
            assert field["description"] and "unit" in field and field["affects"], name


def test_normalised_setup_is_complete_and_stable():
    setup = parse_setup(document(viewpoints={"quay": VIEW}))
    whole = normalised(setup)
    assert whole["fog"]["fog_per_m"] is not None and whole["shadow"]["reach_m"] > 0
    assert parse_setup(json.loads(json.dumps(whole))) == setup


def test_json_depth_is_limited_without_recursion():
    with pytest.raises(SetupError, match="nested deeper"):
        parse_json(b"[" * 200 + b"]" * 200, SetupError)
    with pytest.raises(SetupError, match="nested deeper"):
        parse_json(b"[" * 100_000 + b"]" * 100_000, SetupError)


@pytest.mark.parametrize(
    ("leaf", "what"),
    [
        ("fog.rgb", ["fog", "blended"]),
        ("depth.copy_from", ["screen copy", "late depth", "fog"]),
        ("shadow.bias_texels", ["direct", "refract", "blended"]),
        ("nodes.casts", ["shadow casters", "tinted shadows", "bounce", "reflect"]),
        ("shaders.passes.depth", ["prepass", "late depth"]),
        ("bake.samples", ["bake"]),
        ("order.key", ["blended"]),
        ("lights.bakes", ["shadow", "bake"]),
    ],
)
def test_what_a_leaf_affects_is_what_reads_it(leaf, what):
    assert affects(leaf) == what
