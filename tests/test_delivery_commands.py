"""rehearse and twins on the command line: what they say, write and end with."""

import json
from dataclasses import replace

import numpy as np
import pytest
import trimesh

from deliveries import MOVED, YARD, ledger, second
from eddyfall.cli import main
from eddyfall.core.delivery.carry import carry
from eddyfall.core.intake import open_build
from eddyfall.core.scene.changes import ChangeFile
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.model import Node
from eddyfall.core.scene.read.gltf import read_scene
from scenes import write_build


def written(tmp_path):
    """The yard, its second delivery, and edits of the first, as files."""
    changes = (*ledger(YARD, ("nodes.box_1.draw_rank", 4), ("materials.clear.double_sided", True)), MOVED)
    edits = tmp_path / "yard.changes.json"
    edits.write_text(ChangeFile(changes=changes).model_dump_json())
    return write_build(YARD, tmp_path, "yard"), second(tmp_path)[0], edits, changes


def rehearse(*args):
    return main(["rehearse", *map(str, args), "--size", "96x54"])


def test_rehearse_says_writes_and_ends(tmp_path, capsys):
    old, new, edits, changes = written(tmp_path)
    told = tmp_path / "told.json"
    assert rehearse(old, new, "--changes", edits, "--json", told) == 1
    document = json.loads(told.read_text())
    assert document["counts"] == {"moved": 2, "asked": 1} and document["unanswered"] == ["lamp:0"]
    assert "asked" in capsys.readouterr().out
    assert rehearse(old, new, "--changes", edits, "--accept", tmp_path / "out") == 2
    assert "1 edits are still asked: lamp:0" in capsys.readouterr().err and not (tmp_path / "out").exists()
    for wrong in ("lamp:0=never", "lamp:0", "nobody:0=yours"):
        assert rehearse(old, new, "--changes", edits, "--answer", wrong) == 2
    assert rehearse(old, new, "--changes", edits, "--answer", "lamp:0=yours", "--accept", tmp_path / "out") == 0
    made = open_build(tmp_path / "out" / "second.glb")
    due = carry(open_build(old), changes, read_scene(new), answers={"lamp:0": "yours"}).result
    assert made.setup == due.setup
    assert all(np.allclose(a, b, atol=1e-6) for a, b in zip(made.scene.world_matrices, due.scene.world_matrices))


def test_twins_names_what_is_missing(tmp_path, capsys):
    scene = YARD.scene
    place = np.eye(4)
    place[:3, 3] = (40, 0, 0)
    path, told = tmp_path / "gap.glb", tmp_path / "told.json"
    path.write_bytes(write_glb(replace(scene, nodes=(*scene.nodes, Node("box_77", place)))))
    assert main(["twins", str(path), "--json", str(told)]) == 1
    found = json.loads(told.read_text())["missing"][0]
    assert (found["name"], found["how"], found["guess"], found["like"]) == ("box_77", "name", True, "box_0")
    assert found["twins"][0]["mesh"] == "box_0" and found["twins"][0]["apart_mm"] < 0.01
    assert "box_77 is missing at (40, 0, 0) m: a guess by name, as box_0" in capsys.readouterr().out.replace("\n", " ")
    assert main(["twins", str(path), "--expect", "nobody"]) == 2
    (tmp_path / "whole.glb").write_bytes(write_glb(scene))
    assert main(["twins", str(tmp_path / "whole.glb")]) == 0


def test_shapes_say_how_far_apart_their_points_lie(tmp_path, capsys):
    """Of a unit sphere the density of distances is d/2: a quarter of pairs is nearer than 1, half than sqrt 2, three quarters than sqrt 3,
    and the mean is 4/3 (sphere point picking, a handbook's)."""
    path, told = tmp_path / "ball.glb", tmp_path / "told.json"
    trimesh.creation.icosphere(5).export(path)
    assert main(["twins", str(path), "--shapes", "--json", str(told)]) == 0
    (shape,) = json.loads(told.read_text())["shapes"]
    assert shape["pairs_mean_m"] == pytest.approx(4 / 3, rel=0.02)
    assert shape["pairs_quartiles_m"] == pytest.approx([1, 2**0.5, 3**0.5], rel=0.03)
    assert shape["area_m2"] == pytest.approx(4 * np.pi, rel=2e-3) and shape["sides_m"] == pytest.approx([2, 2, 2], rel=2e-3)
    assert "a quarter under" in capsys.readouterr().out


def test_the_best_twin_of_a_library_is_written_as_a_change_and_applied(tmp_path, capsys):
    scene = YARD.scene
    place = np.eye(4)
    place[:3, 3] = (40, 0, 0)
    path, library, changes = tmp_path / "gap.glb", tmp_path / "library.glb", tmp_path / "twins.json"
    path.write_bytes(write_glb(replace(scene, nodes=(*scene.nodes, Node("capsule", place)))))
    trimesh.creation.capsule(1.0, 0.3).export(library)
    older = tmp_path / "older.glb"
    older.write_bytes(write_glb(replace(read_scene(library), nodes=(Node("capsule", place, mesh=0),))))
    told = ["twins", str(path), "--older", str(older), "--library", str(library), "--changes-out", str(changes)]
    assert main(told) == 1 and "1 changes" in capsys.readouterr().out
    assert main(["apply", str(path), "--changes", str(changes), "--out", str(tmp_path / "out")]) == 0
    made = read_scene(next((tmp_path / "out").glob("*.glb")))
    node = made.nodes[made.node_number["capsule"]]
    assert len(made.meshes[node.mesh].primitives[0].indices) == len(trimesh.creation.capsule(1.0, 0.3).faces)
