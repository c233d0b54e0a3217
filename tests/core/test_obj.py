"""OBJ with its MTL: against trimesh on files of strangers, worked corners and coordinates, what is missing, what lies."""

from pathlib import Path
from zipfile import ZipFile

import numpy as np
import pytest
import trimesh
from PIL import Image as Picture

from eddyfall.cli import main
from eddyfall.core.errors import EddyfallError, SceneError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.intake import open_build
from eddyfall.core.intake.supply import lost_pictures
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.scene.read.obj import roughness_of, triangulated

DEBIAN = Path("/usr/share/assimp/models/OBJ")
SQUARE = """# a gate
mtllib gate.mtl
o gate
v -1 0 0
v 1 0 0
v 1 2 0
v -1 2 0
vt 0 0
vt 1 0
vt 1 1
vt 0 1
vn 0 0 1
usemtl oak leaf
f 1/1/1 2/2/1 3/3/1 4/4/1
"""
OAK = "newmtl oak leaf\nKd 0.5 0.4 0.3\nNs 198\nd 0.75\nmap_Kd -s 2 3 1 -o .1 .2 C:\\tex\\oak bark.png\n"


def written(folder, obj, mtl=OAK, picture=True):
    (folder / "gate.obj").write_text(obj)
    if mtl is not None:
        (folder / "gate.mtl").write_text(mtl)
    if picture:
        Picture.fromarray(np.full((4, 4, 3), (200, 100, 50), np.uint8)).save(folder / "oak bark.png")
    return folder / "gate.obj"


def test_a_face_of_four_corners_with_its_material_and_picture(tmp_path):
    scene = read_scene(written(tmp_path, SQUARE))
    part, [oak] = scene.meshes[0].primitives[0], scene.materials
    assert scene.node_keys == ("gate",) and part.triangles == 2 and scene.missing == ()
    assert oak.name == "oak leaf" and oak.base_rgba == pytest.approx((0.5, 0.4, 0.3, 0.75)) and oak.alpha_mode == "BLEND"
    # 2 / (198 + 2) = .01 is alpha squared; roughness the root of alpha: .1 ** .5 (Walter et al. 2007).
    assert oak.roughness == pytest.approx(0.1**0.5) and roughness_of(0.0) == pytest.approx(1.0)
    # OBJ's coordinates run up: its (1, 0) is our (1, 1). Scaled and moved there: (2.1, .2), which is our v of .8.
    corner = int(np.flatnonzero((part.positions == (1, 0, 0)).all(axis=1))[0])
    assert part.attributes["TEXCOORD_0"][corner].tolist() == [1, 1]
    np.testing.assert_allclose(oak.base_texture.turned(part.attributes["TEXCOORD_0"][[corner]])[0], (2.1, 0.8), atol=1e-6)
    (tmp_path / "out.glb").write_bytes(write_glb(scene, scene))
    again = read_scene(tmp_path / "out.glb")
    np.testing.assert_array_equal(again.images[0].pixels, scene.images[0].pixels)
    assert again.materials == scene.materials


def test_what_is_missing_is_told_and_may_be_supplied(tmp_path):
    scene = read_scene(written(tmp_path, SQUARE, picture=False))
    assert [(one.file, one.uses) for one in lost_pictures(scene)] == [("oak bark.png", (("oak leaf", "base"),))]
    (tmp_path / "bare").mkdir()
    scene = read_scene(written(tmp_path / "bare", SQUARE, mtl=None, picture=False))
    assert any("material file 'gate.mtl'" in note for note in scene.notes) and scene.materials[0].base_rgba == (
        0.5,
        0.5,
        0.5,
        1.0,
    )


def test_a_zip_with_all_of_it_is_swept_by_command(tmp_path, capsys):
    written(tmp_path, SQUARE)
    with ZipFile(tmp_path / "gate.zip", "w") as archive:
        for name in ("gate.obj", "gate.mtl", "oak bark.png"):
            archive.write(tmp_path / name, f"sent/{name}")
    build = open_build(tmp_path / "gate.zip")
    assert build.scene.missing == () and len(build.setup.viewpoints) >= 1
    assert main(["intake", str(tmp_path / "gate.zip")]) == 0 and "left out" not in capsys.readouterr().out
    frame = Renderer().frame(build, Request(next(iter(build.setup.viewpoints)), (64, 36)))
    assert np.isfinite(frame.linear).all() and frame.linear.max() > 0


@pytest.mark.parametrize("faces", ["f -4 -3 -2 -1", "f 1 2 3 \\\n 4", "f 1// 2// 3// 4//", "f 1/1 2/2 3/3 4/4"])
def test_corners_from_the_end_over_two_lines_and_with_gaps(faces, tmp_path):
    text = "\n".join(line for line in SQUARE.splitlines() if not line.startswith("f ")) + "\n" + faces + "\n"
    part = read_scene(written(tmp_path, text)).meshes[0].primitives[0]
    assert part.triangles == 2 and np.ptp(part.positions, axis=0).tolist() == [2, 2, 0]


@pytest.mark.parametrize(
    ("line", "says"),
    [("f 1 2 9", "names vertex 9, there are 4"), ("f 1/9 2 3", "coordinate 9"), ("f 1 2", "2 corners"), ("v 1 nan 2", "out of range"),
     ("v 1 x 2", "no numbers"), ("f 1 2 0", "vertex 0"), ("f a b c", "a corner says 'a'"), ("v 1 2", "2 numbers")],
)  # fmt: skip
def test_what_lies_is_one_line_with_its_number(line, says, tmp_path):
    with pytest.raises(SceneError, match=says) as told:
        read_scene(written(tmp_path, SQUARE + line + "\n"))
    assert "line 15" in str(told.value)


def test_faces_that_are_not_convex_are_cut_without_overlap():
    """An arrow head and a comb in any plane: areas of the triangles add up to that of the face (shoelace)."""
    arrow = np.array([[0, 0], [2, 1], [0, 2], [0.6, 1]], float)
    comb = np.array([[0, 0], [5, 0], [5, 3], [4, 3], [4, 1], [3, 1], [3, 3], [2, 3], [2, 1], [1, 1], [1, 3], [0, 3]], float)
    rng = np.random.default_rng(3)
    for flat in (arrow, comb, arrow[::-1], comb[::-1]):
        x, y = flat.T
        due = abs(x @ np.roll(y, -1) - y @ np.roll(x, -1)) / 2
        basis = np.linalg.qr(rng.normal(size=(3, 3)))[0]
        for axes in (basis, np.eye(3), np.eye(3)[[2, 0, 1]], np.eye(3)[[1, 2, 0]]):
            places = np.column_stack([flat, np.zeros(len(flat))]) @ axes
            corners = places[np.array(triangulated(places.tolist())).reshape(-1, 3)]
            areas = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) / 2
            assert len(areas) == len(flat) - 2 and areas.sum() == pytest.approx(due)


def test_files_of_strangers_have_the_surface_that_trimesh_reads():
    files = sorted(DEBIAN.rglob("*.obj")) if DEBIAN.exists() else []
    if not files:
        pytest.skip("Debian's assimp-testmodels are not installed")
    same = read = 0
    for path in files:
        try:
            scene = read_scene(path)
        except EddyfallError as error:
            assert len(str(error)) < 250
            continue
        read += 1
        parts = [p for m in scene.meshes for p in m.primitives]
        corners = np.concatenate([p.positions[p.indices].astype(float) for p in parts])
        ours = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1).sum() / 2
        try:
            theirs = trimesh.load(path, force="mesh", process=False)
        except Exception:
            continue
        same += bool(np.isclose(ours, theirs.area, rtol=1e-3))
    assert read >= 0.6 * len(files) and same >= 0.9 * read - 1, (len(files), read, same)
