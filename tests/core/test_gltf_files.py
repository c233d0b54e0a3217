"""glTF in and out: what we write is valid and reads back; what others write is read as the specification says."""

import base64
import json
import shutil
import subprocess
import zipfile
from pathlib import Path

import numpy as np
import pytest
import trimesh

from eddyfall.core.frame.render import render
from eddyfall.core.hashing import digest
from eddyfall.core.intake import open_build
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.scene.setup.sections.exposure import Exposure
from scenes import Thing, build_of, flat, floor, glb_bytes, wall, write_build

TOOLS = Path(__file__).parents[1] / "tools"
HAS_VALIDATOR = shutil.which("node") is not None and (TOOLS / "node_modules" / "gltf-validator").exists()


def complaints(glb: bytes, tmp_path: Path) -> tuple[str, list[str]]:
    """(which tool ran, errors it found): gltf-validator of the Khronos group, else trimesh reads the file again."""
    path = tmp_path / "written.glb"
    path.write_bytes(glb)
    if HAS_VALIDATOR:
        script = (
            "const v=require('gltf-validator'),fs=require('fs');v.validateBytes(new Uint8Array(fs.readFileSync(process.argv[1])))"
            ".then(r=>console.log(JSON.stringify(r.issues.messages.filter(m=>m.severity===0))))"
        )
        run = subprocess.run(["node", "-e", script, str(path)], cwd=TOOLS, capture_output=True, text=True, check=True)
        return "gltf-validator", [m["message"] for m in json.loads(run.stdout)]
    trimesh.load(path, force="scene")
    return "trimesh", []


@pytest.fixture(scope="module")
def triangle() -> dict:
    """A glTF document of one triangle with its data in a data: URI."""
    points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
    data = points.tobytes() + np.array([0, 1, 2], np.uint16).tobytes()
    return {
        "asset": {"version": "2.0"},
        "buffers": [{"byteLength": len(data), "uri": "data:application/octet-stream;base64," + base64.b64encode(data).decode()}],
        "bufferViews": [{"buffer": 0, "byteLength": 36}, {"buffer": 0, "byteOffset": 36, "byteLength": 6}],
        "accessors": [
            {"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3", "min": [0, 0, 0], "max": [1, 1, 0]},
            {"bufferView": 1, "componentType": 5123, "count": 3, "type": "SCALAR"},
        ],
        "meshes": [{"name": "tri", "primitives": [{"attributes": {"POSITION": 0}, "indices": 1}]}],
        "nodes": [{"name": "tri", "mesh": 0}],
        "scenes": [{"nodes": [0]}],
        "scene": 0,
    }


def read(document, tmp_path):
    path = tmp_path / "a.gltf"
    path.write_text(json.dumps(document))
    return read_scene(path)


def test_the_demo_and_its_repair_are_valid(demo, demo_sweep, tmp_path):
    from eddyfall.core.scene.changes import apply_changes, rename_clashes

    repaired = apply_changes(demo, rename_clashes([f.best.change for f in demo_sweep.findings]))
    for build in (demo, repaired):
        tool, errors = complaints(write_glb(build.scene, demo.scene), tmp_path)
        print(f"checked by {tool}")
        assert errors == []


def test_the_tiny_scene_is_valid_and_another_library_reads_the_same_triangles(tiny, tmp_path):
    glb = write_glb(tiny.scene)
    tool, errors = complaints(glb, tmp_path)
    assert errors == [], tool
    (tmp_path / "t.glb").write_bytes(glb)
    theirs = trimesh.load(tmp_path / "t.glb", force="scene")
    ours = {key: sum(p.triangles for p in mesh.primitives) for key, mesh in zip(tiny.scene.mesh_keys, tiny.scene.meshes)}
    assert sum(len(g.faces) for g in theirs.geometry.values()) == sum(ours.values())


def test_what_is_written_reads_back_the_same(tiny, tmp_path):
    again = open_build(write_build(tiny, tmp_path))
    assert again.content_hash == tiny.content_hash
    np.testing.assert_array_equal(render(again, "front", size=(96, 54)).linear, render(tiny, "front", size=(96, 54)).linear)


def test_a_written_file_that_did_not_change_is_the_users_own_bytes(tiny, tmp_path):
    path = write_build(tiny, tmp_path)
    scene = read_scene(path)
    assert write_glb(scene, scene) == path.read_bytes()


def test_gltf_with_files_and_zip_read_alike(triangle, tmp_path):
    whole = read(triangle, tmp_path)
    data = base64.b64decode(triangle["buffers"][0]["uri"].split(",")[1])
    apart = json.loads(json.dumps(triangle))
    apart["buffers"][0]["uri"] = "parts/my%20data.bin"
    (tmp_path / "parts").mkdir()
    (tmp_path / "parts" / "my data.bin").write_bytes(data)
    beside = read(apart, tmp_path)
    with zipfile.ZipFile(tmp_path / "a.zip", "w") as archive:
        archive.writestr("scene/a.gltf", json.dumps(apart))
        archive.writestr("scene/parts/my data.bin", data)
    zipped = read_scene(tmp_path / "a.zip")
    assert digest(beside.meshes) == digest(zipped.meshes) == digest(whole.meshes)


@pytest.mark.parametrize(("mode", "count", "faces"), [(4, 6, 2), (5, 5, 3), (6, 5, 3)])
def test_lists_strips_and_fans_make_the_triangles_of_section_3_7_2(mode, count, faces, triangle, tmp_path):
    document = json.loads(json.dumps(triangle))
    points = np.random.default_rng(1).random((count, 3)).astype(np.float32)
    document["buffers"] = [{"byteLength": points.nbytes,
                            "uri": "data:x;base64," + base64.b64encode(points.tobytes()).decode()}]  # fmt: skip
    document["bufferViews"] = [{"buffer": 0, "byteLength": points.nbytes}]
    document["accessors"] = [{"bufferView": 0, "componentType": 5126, "count": count, "type": "VEC3"}]
    document["meshes"][0]["primitives"] = [{"attributes": {"POSITION": 0}, "mode": mode}]
    part = read(document, tmp_path).meshes[0].primitives[0]
    assert part.triangles == faces
    corner = {tuple(p): i for i, p in enumerate(points.tolist())}
    found = [[corner[tuple(part.attributes["POSITION"][v].tolist())] for v in t] for t in part.indices]
    # glTF 2.0, 3.7.2.1: strip p_i = {v_i, v_i+(1+i%2), v_i+(2-i%2)}; fan p_i = {v_i+1, v_i+2, v_0}.
    wanted = {
        4: [[3 * i, 3 * i + 1, 3 * i + 2] for i in range(2)],
        5: [[i, i + 1 + i % 2, i + 2 - i % 2] for i in range(3)],
        6: [[i + 1, i + 2, 0] for i in range(3)],
    }[mode]
    turned = [{tuple(np.roll(t, k)) for k in range(3)} for t in found]
    assert all(tuple(w) in t for w, t in zip(wanted, turned)), (found, wanted)


def test_sparse_accessors_and_strides_read_as_written(triangle, tmp_path):
    document = json.loads(json.dumps(triangle))
    base = np.zeros((4, 6), np.float32)
    base[:, :3] = [[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0]]
    values = np.array([[5, 5, 5]], np.float32)
    data = base.tobytes() + np.array([2], np.uint16).tobytes() + b"\0\0" + values.tobytes()
    document["buffers"] = [{"byteLength": len(data), "uri": "data:x;base64," + base64.b64encode(data).decode()}]
    document["bufferViews"] = [
        {"buffer": 0, "byteLength": 96, "byteStride": 24},
        {"buffer": 0, "byteOffset": 96, "byteLength": 2},
        {"buffer": 0, "byteOffset": 100, "byteLength": 12},
    ]
    sparse = {"count": 1, "indices": {"bufferView": 1, "componentType": 5123}, "values": {"bufferView": 2}}
    document["accessors"] = [{"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3", "sparse": sparse}]
    document["meshes"][0]["primitives"] = [{"attributes": {"POSITION": 0}}]
    part = read(document, tmp_path).meshes[0].primitives[0]
    np.testing.assert_array_equal(part.attributes["POSITION"], [[0, 0, 0], [1, 0, 0], [5, 5, 5]])


def test_what_is_not_drawn_yet_is_named(triangle, tmp_path):
    document = json.loads(json.dumps(triangle))
    document["extensionsUsed"] = ["KHR_materials_sheen", "ACME_shine"]
    notes = " ".join(read(document, tmp_path).notes)
    for words in ("KHR_materials_sheen", "ACME_shine"):
        assert f"not drawn yet: {words}" in notes


def test_a_bad_part_or_image_is_left_out_and_the_rest_drawn(triangle, tmp_path):
    document = json.loads(json.dumps(triangle))
    bad = np.array([[0, 0, 0], [np.nan, 0, 0], [0, 1, 0]], np.float32).tobytes()
    document["buffers"].append({"byteLength": 36, "uri": "data:x;base64," + base64.b64encode(bad).decode()})
    document["bufferViews"].append({"buffer": 1, "byteLength": 36})
    document["accessors"].append({"bufferView": 2, "componentType": 5126, "count": 3, "type": "VEC3"})
    document["meshes"][0]["primitives"].append({"attributes": {"POSITION": 2}})
    document["images"] = [{"name": "gone", "uri": "gone.png"}, {"name": "broken", "uri": "data:x;base64,AAAA"}]
    scene = read(document, tmp_path)
    assert len(scene.meshes[0].primitives) == 1
    notes = " ".join(scene.notes)
    assert "POSITION holds NaN" in notes and "'gone'" in notes and "'broken'" in notes


def test_keys_follow_file_order_where_names_are_missing_or_doubled(tmp_path):
    build = build_of(Thing("post", wall(4)), Thing("post", wall(5), flat("", 0.5)), Thing("", floor(-1), flat("", 0.2)))
    path = write_build(build, tmp_path, with_setup=False)
    scene = read_scene(path)
    assert scene.node_keys == ("post", "post#2", "@2")
    assert any("made up" in note and "post#2" in note for note in open_build(path).notes)


def test_a_file_without_setup_gets_a_fitted_one_that_is_said(tmp_path, triangle):
    path = tmp_path / "bare.glb"
    path.write_bytes(glb_bytes({**triangle, "buffers": triangle["buffers"]}))
    build = open_build(path)
    notes = "\n".join(build.notes)
    assert "fitted_front" in notes and "EV100" in notes and "a sun of 60 000 lx" in notes
    frame = render(build, "fitted_front", size=(160, 90))
    assert (frame.drawable >= 0).any()
    # Metered to 18 % (Reinhard et al. 2002): the log mean of the display-linear frame is .18 within a tenth of a stop.
    luminance = frame.linear @ np.array([0.2126, 0.7152, 0.0722]) / (1.2 * 2 ** build.setup[Exposure].ev100)
    assert abs(np.log2(np.exp(np.log(luminance[luminance > 0]).mean()) / 0.18)) < 0.15
