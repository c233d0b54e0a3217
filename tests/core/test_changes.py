"""Changes: applied, dropped, conflicting; and the patch of the user's own document."""

import copy
import json

import jsonpatch
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from eddyfall.core.errors import ChangeError
from eddyfall.core.handover.package import setup_patch
from eddyfall.core.scene.changes import (
    Change,
    Op,
    apply_change,
    apply_changes,
    read_changes,
    rename_clashes,
    set_leaf,
    set_leaves,
)
from eddyfall.core.scene.setup import normalised, parse_setup
from eddyfall.core.scene.setup.sections.fog import Fog
from scenes import Thing, build_of, flat, wall

# Leaves of many kinds, each with values that are valid for it.
LEAVES = {
    ("fog", "enabled"): st.booleans(),
    ("fog", "fog_per_m"): st.sampled_from([0.0, 0.001, 0.03, 1.0]),
    ("fog", "rgb"): st.sampled_from([[0.1, 0.2, 0.3], [1.0, 1.0, 1.0]]),
    ("depth", "copy_from"): st.sampled_from(["none", "prepass", "opaque"]),
    ("shadow", "cascades"): st.integers(1, 4),
    ("materials", "red", "blend"): st.sampled_from([None, "opaque", "cutout", "blended"]),
    ("nodes", "card", "draw_rank"): st.integers(-5, 5),
    ("nodes", "wall~/x", "casts"): st.booleans(),
    ("shaders", "net", "passes", "depth"): st.booleans(),
    ("targets", "slate", "set", "shadow", "reach_m"): st.sampled_from([10.0, 50.0]),
}


def base_build():
    return build_of(
        Thing("card", wall(4, half=1), flat("red", (0.8, 0.1, 0.1))),
        Thing("wall~/x", wall(9)),
        setup={"shaders": {"net": {"passes": {"shadow": False}}}, "x_kept": {"by": "hand"}, "targets": {"slate": {}}},
    )


BASE = base_build()
EDITS = st.lists(
    st.sampled_from(sorted(LEAVES)).flatmap(lambda path: st.tuples(st.just(path), LEAVES[path])), min_size=1, max_size=6
)


def make(edits):
    """The changes of a list of (path, value), each made on the build the ones before it leave."""
    build, changes = BASE, []
    for i, (path, value) in enumerate(edits):
        change = set_leaf(build, path, value, scope="project", title=str(i)).model_copy(update={"id": f"c{i}"})
        build = apply_change(build, change)
        changes.append(change)
    return build, changes


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(EDITS)
def test_patch_of_the_raw_document_gives_the_result_and_keeps_what_is_not_ours(edits):
    result, _ = make(edits)
    document = jsonpatch.apply_patch(copy.deepcopy(BASE.raw_setup), setup_patch(BASE, result))
    assert parse_setup(json.loads(json.dumps(document))) == result.setup
    assert document["x_kept"] == {"by": "hand"}
    assert document["viewpoints"] == BASE.raw_setup["viewpoints"], "what did not change is left as it was written"


@settings(max_examples=40, deadline=None)
@given(EDITS)
def test_applying_never_touches_the_base(edits):
    before = normalised(BASE.setup)
    make(edits)
    assert normalised(BASE.setup) == before


def test_a_value_that_has_moved_on_is_a_conflict():
    first = set_leaf(BASE, ("fog", "fog_per_m"), 0.5, scope="project", title="a")
    again = set_leaf(BASE, ("fog", "fog_per_m"), 0.7, scope="project", title="b")
    with pytest.raises(ChangeError, match="no longer there"):
        apply_changes(BASE, [first, again])


@pytest.mark.parametrize(
    ("change", "rule"),
    [
        (Change(id="a", scope="project", patch=(Op(op="replace", path="/fog/fog_per_m", value=-3),)), "breaks a rule"),
        (Change(id="a", scope="project", patch=(Op(op="replace", path="/fog/nothing", value=1),)), "does not apply"),
        (Change(id="a", scope="project", patch=(Op(op="add", path="/fog/nothing", value=1),)), "unknown key"),
        (Change(id="a", scope="project", patch=(Op(op="remove", path="/eddyfall_setup"),)), "breaks a rule"),
        (Change(id="a", scope="node", operation={"name": "node.explode"}), "does not exist; there are"),
        (Change(id="a", scope="node", operation={"name": "node.move", "params": {"node": "no", "by_m": [0, 1, 0]}}), "'no'"),
        (Change(id="a", scope="node", operation={"name": "uv.repack", "params": {}}), "does not exist"),
    ],
)
def test_a_change_that_cannot_be_made_is_one_error_with_its_id(change, rule):
    with pytest.raises(ChangeError) as caught:
        apply_change(BASE, change)
    assert rule in str(caught.value) and "change a" in str(caught.value)


@pytest.mark.parametrize(
    "text",
    [
        "",
        "{}",
        '{"eddyfall_changes": 2, "changes": []}',
        '{"eddyfall_changes": 1, "changes": [{"id": "a"}]}',
        '{"eddyfall_changes": 1, "changes": [{"id": "a", "scope": "project", "patch": [{"op": "move", "path": "/a"}]}]}',
        '{"eddyfall_changes": 1, "changes": [{"id": "a", "scope": "world", "patch": []}]}',
        '{"eddyfall_changes": 1, "changes": {}}',
    ],
)
def test_a_change_file_that_breaks_the_format_is_refused(text, tmp_path):
    path = tmp_path / "c.json"
    path.write_text(text)
    if text == "{}":
        assert read_changes(path) == ()
        return
    with pytest.raises(ChangeError, match=r"^c\.json"):
        read_changes(path)


def test_several_leaves_of_one_change_stand_or_fall_together():
    change = set_leaves(BASE, {("fog", "enabled"): True, ("fog", "fog_per_m"): 0.2}, scope="project", title="t")
    assert [op.op for op in change.patch] == ["test", "replace", "test", "replace"]
    broken = change.model_copy(update={"patch": (*change.patch[:3], Op(op="replace", path="/fog/fog_per_m", value="thick"))})
    with pytest.raises(ChangeError):
        apply_change(BASE, broken)
    assert not BASE.setup[Fog].enabled


def test_clashing_ids_are_made_unique():
    change = set_leaf(BASE, ("fog", "enabled"), True, scope="project", title="t")
    assert len({c.id for c in rename_clashes([change, change, change])}) == 3


def test_ids_do_not_grow_with_names():
    from eddyfall.core.scene.names import short_id

    assert short_id("node.move:crate") == "node.move:crate"
    long = [short_id(f"node.move:{'n' * 300}{k}") for k in range(50)]
    assert all(len(i) == 200 for i in long) and len(set(long)) == 50, "and are still told apart"


def test_marks_that_show_nothing_are_written_out():
    from eddyfall.core.scene.names import visible

    assert visible("gate\x1b[31m\u202eexe.\u200b") == "gate␛[31m⟨U+202E⟩exe.⟨U+200B⟩"
    assert visible("12\u202f345 m²\nsecond line") == "12\u202f345 m²\nsecond line"


def test_two_changes_that_both_make_an_entry_keep_what_each_sets():
    """Remedies of two findings are made on the same build: the second must not take back what the first has set."""
    build = build_of(Thing("net", wall(5.0), flat("grey", 0.5)))
    one = set_leaf(build, ("materials", "grey", "shadow_mip_bias"), -3.0, scope="material", title="one")
    two = set_leaf(build, ("materials", "grey", "cut_by"), "pattern", scope="material", title="two")
    both = apply_changes(build, [one, two]).setup.materials["grey"]
    assert both.shadow_mip_bias == -3.0 and both.cut_by == "pattern"
    other = apply_changes(
        build, [two, one, set_leaf(build, ("materials", "grey", "cut_by"), "scattered", scope="material", title="three")]
    )
    assert other.setup.materials["grey"].cut_by == "scattered" and other.setup.materials["grey"].shadow_mip_bias == -3.0
