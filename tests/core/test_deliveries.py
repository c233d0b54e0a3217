"""A second delivery: what its parts are, what becomes of each edit, and the laws of a three-way merge."""

import json
import shutil
import subprocess
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from deliveries import YARD, at, ledger, other_names, yard
from eddyfall.core.delivery.carry import carry, leaves_of
from eddyfall.core.delivery.keys import document_now
from eddyfall.core.delivery.matching import match_scenes
from eddyfall.core.delivery.rehearse import rehearse
from eddyfall.core.errors import ChangeError, SetupError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.changes import Change, Op, Operation, apply_changes
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.model import Material, Mesh, Node, Primitive
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.scene.setup import parse_setup
from eddyfall.demo.second_delivery import edits, fates, second
from eddyfall.demo.shapes import Shape
from eddyfall.demo.write import make_demo
from scenes import build_of

TOOLS = Path(__file__).parents[1] / "tools"


def test_the_second_delivery_of_the_river_front_comes_to_what_its_truth_table_says():
    build, _ = make_demo()
    found = rehearse(build, edits(build), second(build.scene), size=(96, 54))
    assert {e.change: e.fate for e in found.carried.edits} == fates()
    assert len(found.carried.edits) == 12
    states = {m.old: m.state for m in found.carried.matching.of("node") if m.state != "same"}
    assert states == {
        ("river",): "renamed", ("hall_windows",): "renamed", ("hall_door",): "changed", ("tower_louvre",): "gone",
        ("sluice_gates",): "split", ("fender_net_1", "fender_net_2"): "merged", ("near_pier_hoist",): "moved", (): "new",
    }  # fmt: skip
    glass = found.carried.result.setup.materials["glazing"]
    assert glass.double_sided is True
    assert {found.carried.result.setup.nodes[f"sluice_gate_{k}"].bounds_padding_m for k in ("low", "high")} == {0.3}
    assert all(v.mean_de is not None and 0 < v.mean_de < 2 for v in found.views)
    assert found.stamp == rehearse(build, edits(build), second(build.scene), size=(96, 54)).stamp


def test_where_nothing_else_is_delivered_yours_stays():
    """Delivered = before gives yours, whatever the edits."""
    changes = [
        *ledger(YARD, ("fog.enabled", True), ("nodes.box_1.draw_rank", 4), ("materials.clear.blend", "additive"),
            ("nodes.box_5.casts", False)),
        Change(id="up", scope="node", operation=Operation(name="node.move", params={"node": "box_4", "by_m": [0, 1, 0]})),
        Change(id="metal", scope="material", operation=Operation(name="material.metallic", params={"material": "paint_1", "value": 0.5})),
    ]  # fmt: skip
    found = carry(YARD, changes, YARD.scene)
    assert {e.fate for e in found.edits} == {"kept"} and len(found.edits) == len(changes)
    assert found.base.content_hash == YARD.content_hash
    assert found.result.content_hash == apply_changes(YARD, changes).content_hash
    assert all(m.state == "same" for m in found.matching.matches)


def test_where_nothing_is_edited_what_is_delivered_stays():
    """Yours = before gives delivered."""
    delivered = {**YARD.raw_setup, "fog": {"enabled": True}, "nodes": {"box_2": {"draw_rank": 9}}}
    found = carry(YARD, [], YARD.scene, delivered)
    assert found.result.content_hash == found.base.content_hash
    assert found.result.setup == parse_setup(delivered)


@pytest.mark.parametrize("seed", range(12))
def test_edits_follow_whatever_the_parts_are_called_now(seed):
    """All renamed and reordered: every edit moves, every key of the setup follows, the frame stays; carried again, nothing changes."""
    rng = np.random.default_rng(seed)
    build = yard(rng)
    scene, names = other_names(build.scene, rng)
    picks = rng.permutation(12)[:4]
    changes = ledger(
        build, *((f"nodes.box_{k}.draw_rank", int(k) + 2) for k in picks), ("materials.paint_2.double_sided", True),
        ("sort_points.here.members", ["pane", "box_7"]), ("volumes.mist.per_m", 0.2), ("lights.lamp.filter_px", 5),
    )  # fmt: skip
    found = carry(build, changes, scene)
    assert not found.notes
    told = {e.path: e for e in found.edits}
    assert all(e.fate == ("kept" if e.path.startswith("volumes") else "moved") for e in found.edits)
    for k in picks:
        assert told[f"nodes.box_{k}.draw_rank"].to == (f"nodes.{names[f'box_{k}']}.draw_rank",)
        assert found.result.setup.nodes[names[f"box_{k}"]].draw_rank == k + 2
    setup = found.result.setup
    assert setup.sort_points["here"].members == (names["pane"], names["box_7"])
    assert setup.volumes["mist"].node == names["box_3"] and setup.volumes["mist"].per_m == 0.2
    assert setup.viewpoints["cam"].camera == names["camera"]
    assert setup.light_sets["night"].on == {names["lamp"]: False} and "sun" in setup.lights
    again = carry(found.base, found.changes, scene)
    assert again.result.content_hash == found.result.content_hash and {e.fate for e in again.edits} == {"kept"}
    assert [c.patch for c in again.changes] == [c.patch for c in found.changes]


def edited(scene, name, **values):
    number = scene.material_keys.index(name)
    return replace(
        scene, materials=(*scene.materials[:number], replace(scene.materials[number], **values), *scene.materials[number + 1 :])
    )


@pytest.mark.parametrize(("answer", "value"), [(None, True), ("yours", True), ("delivered", False), ("before", None)])
def test_what_was_delivered_otherwise_and_edited_too_is_asked(answer, value):
    delivered = {**YARD.raw_setup, "shadow": {"enabled": False, "reach_m": 80.0}}
    old = replace(
        YARD,
        setup=parse_setup({**YARD.raw_setup, "shadow": {"reach_m": 50.0}}),
        raw_setup={**YARD.raw_setup, "shadow": {"reach_m": 50.0}},
    )
    changes = ledger(old, ("shadow.reach_m", 60.0), ("fog.enabled", True))
    found = carry(old, changes, old.scene, delivered, {"edit 0:0": answer} if answer else None)
    assert [e.fate for e in found.edits] == ["asked", "kept"]
    assert (found.edits[0].before, found.edits[0].yours, found.edits[0].delivered) == (50.0, 60.0, 80.0)
    assert found.result.setup.shadow.reach_m == {None: 60.0, "yours": 60.0, "delivered": 80.0, "before": 50.0}[answer]
    assert [e.key for e in found.asked] == ([] if answer else ["edit 0:0"])
    assert found.result.setup.fog.enabled


def test_an_edit_of_what_the_file_says_is_asked_if_the_file_says_otherwise_now():
    changes = ledger(YARD, ("materials.clear.double_sided", True))
    assert carry(YARD, changes, edited(YARD.scene, "clear", double_sided=True)).edits[0].fate == "delivered"
    changes = [
        Change(
            id="m", scope="material", operation=Operation(name="material.metallic", params={"material": "clear", "value": 0.5})
        )
    ]
    asked = carry(YARD, changes, edited(YARD.scene, "clear", metallic=0.25), answers={"m:0": "before"})
    assert (asked.edits[0].fate, asked.edits[0].before, asked.edits[0].delivered) == ("asked", 1.0, 0.25)
    number = asked.result.scene.material_keys.index("clear")
    assert asked.result.scene.materials[number].metallic == 1.0


@pytest.mark.parametrize(("answer", "x"), [(None, 6.0), ("delivered", 8.0), ("before", 5.0)])
def test_a_thing_that_both_moved_is_asked_and_stands_where_it_is_answered(answer, x):
    number = YARD.scene.node_number["lamp"]
    old = replace(YARD, scene=at(YARD.scene, number, 5.0))
    changes = [
        Change(id="a", scope="node", operation=Operation(name="node.move", params={"node": "lamp", "by_m": [1.0, 0, 0]})),
    ]
    found = carry(old, changes, at(YARD.scene, number, 8.0), answers={"a:0": answer} if answer else None)
    assert found.edits[0].fate == "asked" and found.edits[0].yours[0] == pytest.approx(6.0)
    assert found.result.scene.world_matrices[number][0, 3] == pytest.approx(x)
    there = carry(old, changes, at(YARD.scene, number, 6.0))
    assert there.edits[0].fate == "delivered" and not there.changes


def test_answers_to_what_is_not_asked_are_refused():
    with pytest.raises(ChangeError, match="nothing is asked of 'x:0'"):
        carry(YARD, [], YARD.scene, answers={"x:0": "yours"})


def test_what_is_gone_takes_its_edits_with_it_and_says_so():
    gone = {YARD.scene.node_number[k] for k in ("box_3", "pane", "camera")}
    scene = replace(YARD.scene, nodes=tuple(n for i, n in enumerate(YARD.scene.nodes) if i not in gone))
    changes = ledger(
        YARD, ("nodes.pane.draw_rank", 2), ("nodes.box_1.draw_rank", 3), ("sort_points.here.members", ["pane"]),
        ("sort_points.here.place_m", [1.0, 0, 0]),
    )  # fmt: skip
    found = carry(YARD, changes, scene)
    assert [e.fate for e in found.edits] == ["lost", "kept", "lost", "kept"]
    assert "pane is gone" in found.edits[0].why and "'pane' is not in the new delivery" in found.edits[2].why
    assert "volumes.mist: node 'box_3' is not in the new delivery" in found.notes
    assert any("viewpoints.cam" in n and "stands where that was" in n for n in found.notes)
    assert found.result.setup.viewpoints["cam"].eye == pytest.approx((1, 3, 2))
    assert found.result.setup.sort_points["here"].members == ("box_2",)


def test_one_edit_of_many_leaves_keeps_those_that_still_apply():
    patch = (
        Op(op="add", path="/nodes/box_7", value={"draw_rank": 2, "casts": False}), Op(op="add", path="/nodes/pane", value={"draw_rank": 5})
    )  # fmt: skip
    assert [path for path, _ in leaves_of(Change(id="x", scope="node", patch=patch))] == [
        ("nodes", "box_7", "draw_rank"), ("nodes", "box_7", "casts"), ("nodes", "pane", "draw_rank"),
    ]  # fmt: skip
    bare = {k: v for k, v in YARD.raw_setup.items() if k not in ("nodes", "sort_points")}
    old = replace(YARD, setup=parse_setup(bare), raw_setup=bare)
    without = replace(old.scene, nodes=tuple(n for n in old.scene.nodes if n.name != "pane"))
    found = carry(old, [Change(id="x", scope="node", patch=patch)], without)
    assert [e.fate for e in found.edits] == ["kept", "kept", "lost"]
    assert found.result.setup.nodes["box_7"].draw_rank == 2 and len(found.changes) == 1


def test_an_order_of_triangles_that_are_other_ones_is_left_out_and_said():
    raw = {**YARD.raw_setup, "nodes": {"box_1": {"triangle_order": list(range(12))}, "box_2": {"draw_rank": 1}}}
    old = replace(YARD, setup=parse_setup(raw), raw_setup=raw)
    number = old.scene.node_number["box_1"]
    mesh = old.scene.nodes[number].mesh
    part = old.scene.meshes[mesh].primitives[0]
    fewer = old.scene.with_mesh(
        mesh, replace(old.scene.meshes[mesh], primitives=(replace(part, indices=freeze(part.indices[:8])),))
    )
    found = carry(old, [], fewer)
    assert [n for n in found.notes if "nodes.box_1.triangle_order" in n and "0 .. 7" in n]
    assert found.result.setup.nodes["box_2"].draw_rank == 1
    with pytest.raises(SetupError, match=r"0 \.\. 7"):  # what a delivery itself says wrong is its own fault
        carry(old, [], fewer, raw)


def test_removed_leaves_are_removed_under_the_name_of_now():
    rng = np.random.default_rng(1)
    scene, names = other_names(YARD.scene, rng)
    found = carry(YARD, [Change(id="out", scope="node", patch=(Op(op="remove", path="/nodes/box_1"),))], scene)
    assert found.edits[0].fate == "moved" and names["box_1"] not in found.result.setup.nodes
    assert names["box_1"] in found.base.setup.nodes


def cut(scene, name, share):
    """A node's triangles on two nodes of new names."""
    number = scene.node_number[name]
    mesh = scene.nodes[number].mesh
    part = scene.meshes[mesh].primitives[0]
    first = int(len(part.indices) * share)
    halves = [Primitive(part.attributes, freeze(i), part.material) for i in (part.indices[:first], part.indices[first:])]
    scene = scene.with_mesh(mesh, Mesh("one", (halves[0],))).with_node(number, replace(scene.nodes[number], name=f"{name}.1"))
    more = replace(scene.nodes[number], name=f"{name}.2", mesh=len(scene.meshes))
    return replace(scene, meshes=(*scene.meshes, Mesh("two", (halves[1],))), nodes=(*scene.nodes, more))


def test_a_node_that_keeps_its_name_and_loses_half_is_split():
    """The exporter's habit: the first half keeps the name, the second gets a number."""
    scene = cut(YARD.scene, "box_5", 0.5)
    scene = scene.with_node(scene.node_number["box_5.1"], replace(scene.nodes[scene.node_number["box_5.1"]], name="box_5"))
    match = match_scenes(YARD.scene, scene).match_of("node", "box_5")
    assert (match.state, match.new) == ("split", ("box_5", "box_5.2"))


def test_names_that_changed_places_are_followed_by_their_triangles():
    one, other = (YARD.scene.node_number[f"box_{k}"] for k in (4, 9))
    scene = YARD.scene.with_node(one, replace(YARD.scene.nodes[one], name="box_9"))
    scene = scene.with_node(other, replace(scene.nodes[other], name="box_4"))
    found = match_scenes(YARD.scene, scene)
    assert found.new_names("node", "box_4") == ("box_9",) and found.new_names("node", "box_9") == ("box_4",)


def test_many_alike_parts_are_matched_where_they_stand():
    """Four hundred equal boxes, all renamed and shuffled."""
    rng = np.random.default_rng(2)
    box = Shape().box((0, 0, 0), (1, 1, 1)).primitive(0)
    places = [np.array([[1, 0, 0, 2.0 * (k % 20)], [0, 1, 0, 0], [0, 0, 1, 2.0 * (k // 20)], [0, 0, 0, 1]]) for k in range(400)]
    old = replace(build_of().scene, materials=(Material("m"),), meshes=(Mesh("b", (box,)),),
                  nodes=tuple(Node(f"n{k}", p, mesh=0) for k, p in enumerate(places)))  # fmt: skip
    scene, names = other_names(old, rng)
    found = match_scenes(old, scene)
    assert all(found.new_names("node", key) == (name,) for key, name in names.items())
    assert {m.state for m in found.of("node")} == {"renamed"}


def test_what_another_exporter_makes_of_a_scene_is_matched(tmp_path):
    """gltfpack as another hand: numbers narrowed, vertices reordered, nodes kept by name or not."""
    if shutil.which("node") is None or not (TOOLS / "node_modules" / "gltfpack").exists():
        pytest.skip("no node")
    (tmp_path / "old.glb").write_bytes(write_glb(YARD.scene))
    tool = TOOLS / "node_modules" / "gltfpack" / "cli.js"
    done = subprocess.run(
        ["node", tool, "-i", tmp_path / "old.glb", "-o", tmp_path / "new.glb", "-kn", "-km", "-c"],
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stderr
    changes = ledger(YARD, ("materials.clear.double_sided", True), ("nodes.box_4.draw_rank", 7), ("lights.lamp.filter_px", 5))
    found = carry(YARD, changes, read_scene(tmp_path / "new.glb"))
    assert not [e for e in found.edits if e.fate not in ("kept", "moved", "adapted")]
    assert found.result.setup.nodes[found.matching.new_names("node", "box_4")[0]].draw_rank == 7


def test_a_document_follows_in_its_own_words():
    """What the user wrote stays as it is written, defaults left out; x_ keys too."""
    scene, names = other_names(YARD.scene, np.random.default_rng(3))
    raw = {**YARD.raw_setup, "x_note": {"by": "us"}, "nodes": {"box_1": {"draw_rank": 1, "x_why": "mist"}}}
    made, notes = document_now(raw, match_scenes(YARD.scene, scene), YARD.scene)
    assert not notes and made["x_note"] == {"by": "us"}
    assert made["nodes"] == {names["box_1"]: {"draw_rank": 1, "x_why": "mist"}}
    json.dumps(made)
