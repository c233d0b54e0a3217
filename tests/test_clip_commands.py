"""Clips as a user finds and plays them."""

import json

import numpy as np
from PIL import Image

from glb_files import glb, turn

CORNERS = np.array([[-0.5, -0.5, 0], [0.5, -0.5, 0], [0.5, 0.5, 0], [-0.5, 0.5, 0]], np.float32)


def gate(tmp_path):
    """A square that a clip lifts by two metres in a second, and a camera before it; its setup beside it."""
    normals = np.tile(np.array([0, 0, 1], np.float32), (4, 1))
    arrays = [
        (CORNERS, 5126, "VEC3"), (normals, 5126, "VEC3"), (np.array([0, 1, 2, 0, 2, 3], np.uint16), 5123, "SCALAR"),
        (np.array([0, 1], np.float32), 5126, "SCALAR"), (np.array([[0, 0, 0], [0, 2, 0]], np.float32), 5126, "VEC3"),
        (np.array([turn(2, 0), turn(2, 90)], np.float32), 5126, "VEC4"),
    ]  # fmt: skip
    channels = [
        {"sampler": 0, "target": {"node": 0, "path": "translation"}},
        {"sampler": 1, "target": {"node": 0, "path": "rotation"}},
    ]
    doc = {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}], "nodes": [{"name": "gate", "mesh": 0}],
        "extensionsUsed": ["KHR_materials_unlit"], "materials": [{"name": "white", "extensions": {"KHR_materials_unlit": {}}}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0, "NORMAL": 1}, "indices": 2, "material": 0}]}],
        "animations": [{"name": "lift", "channels": channels, "samplers": [{"input": 3, "output": 4}, {"input": 3, "output": 5}]}],
    }  # fmt: skip
    path = tmp_path / "gate.glb"
    path.write_bytes(glb(doc, arrays))
    view = {"eye": [0, 1, 5], "target": [0, 1, 0], "fov_y_deg": 60}
    (tmp_path / "gate.setup.json").write_text(json.dumps({
        "eddyfall_setup": 1, "viewpoints": {"eye": view}, "exposure": {"mode": "off"}, "sky": {"ambient": False},
    }))  # fmt: skip
    return path


def rows_of(path):
    """(first, last) row of a picture that is white anywhere."""
    white = np.flatnonzero((np.asarray(Image.open(path).convert("L")) > 250).any(axis=1))
    return int(white[0]), int(white[-1])


def test_a_clip_is_told_at_intake_and_played_in_a_frame(run, tmp_path):
    path = gate(tmp_path)
    code, out, _ = run("intake", path, "--json", "-")
    assert code == 0 and json.loads(out)["clips"] == [{"name": "lift", "ends_s": 1.0, "moves": 1}]
    code, out, _ = run("intake", path)
    assert "lift (1 s)" in out
    seen = {}
    for t in ("0", "0.5", "1", "9"):
        picture = tmp_path / f"{t}.png"
        code, out, _ = run(
            "frame", path, "--viewpoint", "eye", "--size", "96x96", "--clip", "lift", "--time", t, "--out", picture
        )
        assert code == 0 and f"clip lift at {t} s of 1 s" in out
        seen[t] = rows_of(picture)
    run("frame", path, "--viewpoint", "eye", "--size", "96x96", "--out", tmp_path / "rest.png")
    assert seen["0"] == rows_of(tmp_path / "rest.png") and seen["1"] == seen["9"]
    assert seen["1"][0] < seen["0.5"][0] < seen["0"][0]
    # Half way it stands on a corner: as high as its diagonal.
    assert seen["0.5"][1] - seen["0.5"][0] > 1.3 * (seen["0"][1] - seen["0"][0])


def test_wrong_clips_are_one_line(run, tmp_path):
    path = gate(tmp_path)
    wrong = {
        "there is no clip 'drop' (lift)": ["--clip", "drop"],
        "a clip has no moment nan s": ["--clip", "lift", "--time", "nan"],
    }
    for says, more in wrong.items():
        code, _, err = run("frame", path, "--viewpoint", "eye", *more, "--out", tmp_path / "x.png")
        assert code == 2 and says in err and not (tmp_path / "x.png").exists()
