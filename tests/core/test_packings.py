"""One ring in ten packings draws one frame; what is damaged or claims too much is refused in one line, and what is kept is kept whole."""

import json
import shutil
import subprocess
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

import packings
from eddyfall.core.errors import SceneError
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.drawables import pack
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.scene.setup import parse_setup

TOOLS = Path(__file__).parents[1] / "tools"
SETUP = {
    "eddyfall_setup": 1, "exposure": {"mode": "off"},
    "viewpoints": {"front": {"eye": [0.4, -0.8, 3.4], "target": [0, 0.1, 0], "fov_y_deg": 50}},
    "sky": {"zenith_rgb": [3000, 3000, 3000], "horizon_rgb": [2000, 2000, 2000], "ground_rgb": [500, 500, 500]},
}  # fmt: skip


def frame_of(data, tmp_path, name="ring"):
    path = tmp_path / f"{name}.glb"
    path.write_bytes(data)
    scene = read_scene(path)
    return scene, Renderer().frame(Build(scene, parse_setup(SETUP)), Request("front", (160, 90)), "linear").linear


@pytest.fixture(scope="module")
def plain(tmp_path_factory):
    return frame_of(packings.plain().glb(), tmp_path_factory.mktemp("plain"))


@pytest.mark.parametrize("name", packings.PACKINGS)
def test_every_packing_draws_the_same_ring(name, plain, tmp_path):
    scene, frame = frame_of(packings.PACKINGS[name](), tmp_path)
    assert not [n for n in scene.notes if "not drawn" in n or "left out" in n]
    off = np.abs(frame - plain[1]).max(axis=2) / plain[1].max()
    assert np.median(plain[1].max(axis=2)) > 0
    assert off.mean() < 2e-3  # eight bits of a colour or a normal, sixteen of a place
    assert (off > 0.03).mean() < 0.01  # what an outline moved by a share of a pixel changes
    assert (frame[..., 0] > frame[..., 1]).any() and (frame[..., 0] < frame[..., 1]).any()  # the colours of its corners


def test_what_others_pack_of_it_draws_the_same_ring(plain, tmp_path):
    """gltfpack as a reference for quantised, filtered and packed files of another hand."""
    if shutil.which("node") is None or not (TOOLS / "node_modules" / "gltfpack").exists():
        pytest.skip("no node")
    (tmp_path / "ring.glb").write_bytes(packings.plain().glb())
    tool = TOOLS / "node_modules" / "gltfpack" / "cli.js"
    for level in ("-kn", "-c", "-cc"):
        out = tmp_path / f"{level[1:]}.glb"
        done = subprocess.run(
            ["node", tool, "-i", tmp_path / "ring.glb", "-o", out, "-kn", "-km", level],
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.returncode == 0, done.stderr
        _, frame = frame_of(out.read_bytes(), tmp_path, f"read{level}")
        off = np.abs(frame - plain[1]).max(axis=2) / plain[1].max()
        assert off.mean() < 4e-3, level


def test_what_is_changed_in_a_packed_file_is_written_and_all_else_kept(plain, tmp_path):
    for name, data in (("meshopt", packings.quantised(pack=True).glb()), ("draco", packings.by_draco().glb())):
        scene, frame = frame_of(data, tmp_path, name)
        assert write_glb(scene, scene) == data
        ring = scene.node_number["Ring"]
        moved = np.array(scene.nodes[ring].matrix)
        moved[0, 3] = 1e-9  # skinned: where its node stands moves nothing
        _, same = frame_of(write_glb(scene.with_node(ring, replace(scene.nodes[ring], matrix=moved)), scene), tmp_path, "moved")
        assert np.array_equal(same, frame)
        part = scene.meshes[0].primitives[0]
        whiter = {**part.attributes, "COLOR_0": freeze(np.ones((len(part.positions), 4), np.float32))}
        changed = scene.with_mesh(0, replace(scene.meshes[0], primitives=(replace(part, attributes=whiter),)))
        white, _ = frame_of(write_glb(changed, scene), tmp_path, "white")
        assert (white.meshes[0].primitives[0].attributes["COLOR_0"] == 1).all()
        assert "KHR_draco_mesh_compression" not in json.dumps(white.source.json)
        assert np.array_equal(white.meshes[0].primitives[0].positions, part.positions)


@pytest.mark.parametrize(
    "name", ["quantised, packed by meshopt", "filtered, packed by meshopt", "packed by Draco", "with a KTX2"]
)
def test_damaged_bytes_are_refused_in_one_line_or_read_as_what_they_claim(name, tmp_path):
    """Decoders accept much that is damaged: what they give is held against what the file claims."""
    data, rng = packings.PACKINGS[name](), np.random.default_rng(7)
    first = data.index(b"BIN\0") + 4
    refused = 0
    for k in range(60):
        broken = bytearray(data)
        for at in rng.integers(first, len(data), 1 + k % 7):
            broken[at] = rng.integers(0, 256)
        path = tmp_path / "broken.glb"
        path.write_bytes(bytes(broken))
        try:
            geometry = pack(read_scene(path), parse_setup({"eddyfall_setup": 1}))
        except SceneError as error:
            refused += 1
            assert "\n" not in str(error) and "broken.glb" in str(error)
        else:
            assert geometry.triangles.max() < len(geometry.positions)
            assert np.isfinite(geometry.positions[:-4]).all()
    assert name == "with a KTX2" or refused > 0


def edited(file, **of_view):
    view = next(v for v in file.doc["bufferViews"] if "extensions" in v)
    view["extensions"]["EXT_meshopt_compression"].update(of_view)
    return file.glb()


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"count": 2_000_000_000}, "not what the view claims"),
        ({"byteLength": 10**9}, "packed bytes end at"),
        ({"mode": "CUBES"}, "mode 'CUBES'"),
        ({"filter": "MAGIC"}, "filter 'MAGIC'"),
        ({"buffer": 9}, "buffer 9 does not exist"),
        ({"byteStride": 12}, "not what the view claims"),
    ],
)
def test_a_packed_view_that_lies_is_refused(change, said, tmp_path):
    with pytest.raises(SceneError, match=said):
        frame_of(edited(packings.quantised(pack=True), **change), tmp_path)


def test_a_packed_view_cannot_claim_what_its_bytes_cannot_hold(tmp_path):
    file = packings.quantised(pack=True)
    view = next(v for v in file.doc["bufferViews"] if "extensions" in v)
    view["extensions"]["EXT_meshopt_compression"]["count"] = 10**8
    view["byteLength"] = 10**8 * view["byteStride"]
    with pytest.raises(SceneError, match="packed bytes cannot hold"):
        frame_of(file.glb(), tmp_path)


@pytest.mark.parametrize(
    ("key", "said"), [("count", "Draco holds 98 elements of NORMAL"), ("indices", "Draco holds 288 indices"), ("id", "holds no attribute")]
)  # fmt: skip
def test_what_draco_holds_is_what_the_file_claims(key, said, tmp_path):
    file = packings.by_draco()
    part = file.doc["meshes"][0]["primitives"][0]
    if key == "count":
        file.doc["accessors"][part["attributes"]["NORMAL"]]["count"] = 97
    elif key == "indices":
        file.doc["accessors"][part["indices"]]["count"] = 300
    else:
        part["extensions"]["KHR_draco_mesh_compression"]["attributes"]["NORMAL"] = 77
    with pytest.raises(SceneError, match=said):
        frame_of(file.glb(), tmp_path)


def test_the_ring_of_narrow_numbers_is_as_large_as_it_is(tmp_path):
    """Its scale is in the inverse bind matrices: radius 1.35, not 1."""
    path = tmp_path / "ring.glb"
    path.write_bytes(packings.quantised().glb())
    geometry = pack(read_scene(path), parse_setup({"eddyfall_setup": 1}))
    lower = geometry.positions[:-4][geometry.positions[:-4, 1] < -0.6]
    assert np.hypot(lower[:, 0], lower[:, 1]).max() == pytest.approx(packings.MOST, abs=1e-4)


def test_a_wide_or_broken_compressed_picture_is_drawn_as_checks(tmp_path):
    file = packings.plain("KTX2")
    at = file.binary.index(b"\xabKTX 20")
    file.binary[at + 12 : at + 80] = bytes(68)
    scene, _ = frame_of(file.glb(), tmp_path)
    assert [n for n in scene.notes if "no readable KTX2" in n and "checks" in n]
