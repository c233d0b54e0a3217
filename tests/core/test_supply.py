"""Pictures that come after the scene find their places: to the byte, by name, by a name that says the same, by look; and stay there."""

import io
import json
import shutil
from dataclasses import replace

import numpy as np
import pytest
from PIL import Image as Picture

from eddyfall.cli import main
from eddyfall.core.errors import SceneError
from eddyfall.core.intake.supply import _words, lost_pictures, matched, offered, supplied, taken
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.images import ImageBudget
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.demo import pictures
from eddyfall.demo.shapes import Shape
from scenes import Thing, build_of

RNG = np.random.default_rng(8)
BOARDS, STONE = pictures.planks(RNG, (120, 90, 60), size=128), pictures.ashlar(RNG, (150, 140, 120), size=128)
BUMPS = np.dstack(
    [*[np.clip(128 + RNG.normal(0, 12, (64, 64)), 0, 255)] * 2, np.full((64, 64), 250), np.full((64, 64), 255)]
).astype(np.uint8)
ROUGH = np.dstack([np.full((64, 64), 255), RNG.integers(90, 200, (64, 64)), np.zeros((64, 64)), np.full((64, 64), 255)]).astype(
    np.uint8
)
FILES = {"gate_albedo.png": BOARDS, "gate_nrm.png": BUMPS, "gate_roughness.png": ROUGH, "wall.jpg": STONE}


def coded(pixels, kind="PNG"):
    stream = io.BytesIO()
    Picture.fromarray(pixels if kind == "PNG" else pixels[..., :3]).save(stream, kind)
    return stream.getvalue()


@pytest.fixture
def sent(tmp_path):
    """A .gltf with four pictures in files of their own, by paths of another machine; the pictures in a folder beside."""
    gate = Material(
        "gate", metallic=0.0, base_texture=TextureUse(0), normal_texture=TextureUse(1), metallic_roughness_texture=TextureUse(2)
    )
    wall = Material("wall", metallic=0.0, base_texture=TextureUse(3))
    images = tuple(Image(name.rsplit(".")[0], pixels) for name, pixels in FILES.items())
    build = build_of(Thing("gate", Shape().quad((-1, -0.6, -8), (2, 0, 0), (0, 1.2, 0)), gate),
                     Thing("wall", Shape().quad((-3, -2, -9), (6, 0, 0), (0, 4, 0)), wall), images=images)  # fmt: skip
    (tmp_path / "whole.glb").write_bytes(write_glb(build.scene))
    source = read_scene(tmp_path / "whole.glb").source
    document = json.loads(json.dumps(source.json))
    for entry, name in zip(document["images"], FILES):
        entry.clear()
        entry["uri"] = f"C:\\\\work\\\\{name}" if name == "wall.jpg" else f"../../elsewhere/{name}"
    document["buffers"][0]["uri"] = "scene.bin"
    folder = tmp_path / "sent"
    (folder / "later").mkdir(parents=True)
    (folder / "scene.bin").write_bytes(source.buffers[0].tobytes())
    (folder / "scene.gltf").write_text(json.dumps(document))
    return folder / "scene.gltf"


def later(*names, **renamed):
    """Supplied pictures by their own names, or under another one."""
    chosen = {name: FILES[name] for name in names} | {new: FILES[old] for new, old in renamed.items()}
    return [offered(name, coded(pixels), ImageBudget()) for name, pixels in chosen.items()]


def test_what_is_missing_is_told_with_what_it_is_for(sent):
    found = lost_pictures(read_scene(sent))
    assert [(one.file, one.uses) for one in found] == [
        ("gate_albedo.png", (("gate", "base"),)), ("gate_nrm.png", (("gate", "normal"),)),
        ("gate_roughness.png", (("gate", "metallic_roughness"),)), ("wall.jpg", (("wall", "base"),)),
    ]  # fmt: skip


def test_by_name_whatever_the_path_the_case_or_the_ending(sent):
    scene = read_scene(sent)
    found = matched(scene, later("gate_albedo.png", **{"GATE_NRM.PNG": "gate_nrm.png", "wall.png": "wall.jpg"}))
    assert [(f.lost.file, f.offered, f.how) for f in found.found] == [
        ("gate_albedo.png", "gate_albedo.png", "name"), ("gate_nrm.png", "GATE_NRM.PNG", "name"), ("wall.jpg", "wall.png", "name"),
    ]  # fmt: skip
    assert [one.file for one in found.missing] == ["gate_roughness.png"]


def test_by_a_name_that_says_the_same(sent):
    names = {
        "Gate_BaseColor_v2_2k.png": "gate_albedo.png",
        "gate-Normal.png": "gate_nrm.png",
        "Gate_Rough.png": "gate_roughness.png",
    }
    found = matched(read_scene(sent), later(**names))
    assert {(f.lost.file, f.offered, f.how) for f in found.found} == {(old, new, "a name alike") for new, old in names.items()}
    assert not any(f.sure for f in found.found)
    assert _words("T_GateLeaf_Albedo_4k.png") == _words("gateLeaf-basecolor.jpg") == ("gate_leaf", "base")


def test_by_what_an_older_delivery_had_there(sent, tmp_path):
    older = read_scene(tmp_path / "whole.glb")
    found = matched(read_scene(sent), later(**{"1.png": "gate_albedo.png", "2.png": "gate_roughness.png"}), older)
    assert {(f.lost.file, f.offered, f.how) for f in found.found} == {
        ("gate_albedo.png", "1.png", "hash"), ("gate_roughness.png", "2.png", "hash")}  # fmt: skip
    retouched = np.clip(BOARDS.astype(int) + 6, 0, 255).astype(np.uint8)
    looks = [offered("new.png", coded(retouched), ImageBudget()), offered("other.png", coded(STONE), ImageBudget())]
    by_look = {f.lost.file: (f.offered, f.how) for f in matched(read_scene(sent), looks, older).found}
    assert by_look["gate_albedo.png"] == ("new.png", "look") and by_look["wall.jpg"] == ("other.png", "hash")


def test_the_only_map_of_normals_is_known_as_such_and_what_fits_nothing_is_left(sent):
    found = matched(read_scene(sent), later(**{"a.png": "gate_nrm.png", "b.png": "wall.jpg"}))
    assert [(f.lost.file, f.offered, f.how) for f in found.found] == [("gate_nrm.png", "a.png", "the only one of its kind")]
    assert found.left == ("b.png",) and len(found.missing) == 3


def test_they_stand_in_their_places_and_nothing_else_changes(sent, tmp_path):
    pictures_ = later(*FILES)
    made = supplied(sent, taken(matched(read_scene(sent), pictures_), pictures_))
    (tmp_path / "made.glb").write_bytes(made)
    scene, whole = read_scene(tmp_path / "made.glb"), read_scene(tmp_path / "whole.glb")
    assert scene.missing == () and [m.uses for m in scene.materials] == [m.uses for m in whole.materials]
    for a, b in zip(scene.images, FILES.values()):
        np.testing.assert_array_equal(a.pixels, b)
    np.testing.assert_array_equal(scene.meshes[0].primitives[0].positions, whole.meshes[0].primitives[0].positions)


def test_what_came_in_files_of_its_own_goes_along_when_a_change_is_written(sent, tmp_path):
    """A repaired build of a .gltf with pictures beside it is one file: without them it would show checks."""
    for name, pixels in FILES.items():
        (sent.parent / "later" / name).write_bytes(coded(pixels, "JPEG" if name.endswith("jpg") else "PNG"))
    read = read_scene(sent)
    assert read.missing == ()
    moved = np.array(read.nodes[0].matrix)
    moved[0, 3] += 1
    (tmp_path / "out.glb").write_bytes(write_glb(read.with_node(0, replace(read.nodes[0], matrix=moved)), read))
    shutil.rmtree(sent.parent)
    again = read_scene(tmp_path / "out.glb")
    assert again.missing == () and [n for n in again.notes if "left out" in n] == []
    for a, b in zip(again.images, read.images):
        np.testing.assert_array_equal(a.pixels, b.pixels)


def test_the_command_says_writes_and_refuses(sent, tmp_path, capsys):
    files = []
    for name, pixels in (("gate_albedo.png", BOARDS), ("x.png", STONE)):
        files.append(tmp_path / name)
        files[-1].write_bytes(coded(pixels))
    out, told = tmp_path / "out.glb", tmp_path / "told.json"
    assert main(["intake", str(sent), "--supply", *map(str, files), "--out", str(out), "--json", str(told)]) == 1
    document = json.loads(told.read_text())
    assert [f["picture"] for f in document["found"]] == ["gate_albedo.png"] and document["left"] == ["x.png"]
    assert len(document["missing"]) == 3 and "finds no place: x.png" in capsys.readouterr().out
    assert read_scene(out).missing == (1, 2, 3)
    (tmp_path / "no.png").write_bytes(b"not a picture")
    assert main(["intake", str(sent), "--supply", str(tmp_path / "no.png")]) == 2
    assert "no.png" in capsys.readouterr().err
    assert main(["intake", str(sent), "--supply", str(files[0]), str(files[0])]) == 2
    with pytest.raises(SceneError):
        offered("half.png", coded(BOARDS)[:200], ImageBudget())


def test_a_file_that_the_scene_lists_twice_is_one_picture(sent):
    document = json.loads(sent.read_text())
    document["images"].append({"uri": document["images"][0]["uri"]})
    document["textures"].append({"source": 4})
    document["materials"][1]["pbrMetallicRoughness"]["baseColorTexture"]["index"] = len(document["textures"]) - 1
    sent.write_text(json.dumps(document))
    found = matched(read_scene(sent), later("gate_albedo.png"))
    assert [(f.lost.image, f.offered, f.how) for f in found.found] == [
        (0, "gate_albedo.png", "name"),
        (4, "gate_albedo.png", "name"),
    ]
