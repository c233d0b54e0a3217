"""Material variants: read, drawn, kept, written; what lies is one line."""

import numpy as np
import pytest

from eddyfall.cli import main
from eddyfall.core.errors import ChangeError, RequestError, SceneError
from eddyfall.core.intake import open_build
from eddyfall.core.scene.changes import apply_change
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.scene.variants import dressed_as, in_variant
from glb_files import glb

TRIANGLE = np.array([[-1, -1, -4], [1, -1, -4], [0, 1, -4]], np.float32)


def written(tmp_path, mappings=None, **more):
    """A triangle that is red, blue when wet, and green when mossy or wet at night."""
    said = [{"material": 1, "variants": [0]}, {"material": 2, "variants": [1, 2]}] if mappings is None else mappings
    doc = {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}], "nodes": [{"mesh": 0}],
        "extensionsUsed": ["KHR_materials_variants", "KHR_materials_unlit"],
        "extensions": {"KHR_materials_variants": {"variants": [{"name": "wet"}, {"name": "mossy"}, {"name": "night"}]}},
        "materials": [{"name": n, "pbrMetallicRoughness": {"baseColorFactor": [*c, 1]}, "extensions": {"KHR_materials_unlit": {}}}
                      for n, c in (("red", (1, 0, 0)), ("blue", (0, 0, 1)), ("green", (0, 1, 0)))],
        "meshes": [{"primitives": [
            {"attributes": {"POSITION": 0}, "material": 0, "extensions": {"KHR_materials_variants": {"mappings": said}}}]}],
        **more,
    }  # fmt: skip
    path = tmp_path / "v.glb"
    path.write_bytes(glb(doc, [(TRIANGLE, 5126, "VEC3")]))
    (tmp_path / "v.setup.json").write_text(
        '{"eddyfall_setup": 1, "viewpoints": {"eye": {"eye": [0, 0, 0], "target": [0, 0, -1], "fov_y_deg": 40}}}'
    )
    return path


def test_a_scene_is_dressed_and_the_rest_stays(tmp_path):
    scene = read_scene(written(tmp_path))
    assert scene.variants == ("wet", "mossy", "night") and scene.notes == ()
    assert [in_variant(scene, v).meshes[0].primitives[0].material for v in scene.variants] == [1, 2, 2]
    assert scene.meshes[0].primitives[0].material == 0
    with pytest.raises(RequestError, match="no variant 'dry'"):
        in_variant(scene, "dry")
    bare = read_scene(written(tmp_path, mappings=[]))
    assert in_variant(bare, "wet").meshes[0] is bare.meshes[0]


def test_a_frame_of_it_by_command_and_what_is_kept_is_written(tmp_path, capsys):
    path = written(tmp_path)
    assert main(["intake", str(path)]) == 0 and "wet, mossy, night" in capsys.readouterr().out
    out = tmp_path / "wet.png"
    assert main(["frame", str(path), "--viewpoint", "eye", "--variant", "wet", "--out", str(out), "--size", "32x18"]) == 0
    from PIL import Image

    assert np.asarray(Image.open(out))[10, 16, :3].tolist() == [0, 0, 255]
    assert main(["frame", str(path), "--viewpoint", "eye", "--variant", "dry", "--out", str(tmp_path / "x.png")]) == 2
    build = open_build(path)
    after = apply_change(build, dressed_as("mossy"))
    (tmp_path / "after.glb").write_bytes(write_glb(after.scene, build.scene))
    again = read_scene(tmp_path / "after.glb")
    assert again.meshes[0].primitives[0].material == 2 and again.variants == build.scene.variants
    assert again.meshes[0].primitives[0].variants == build.scene.meshes[0].primitives[0].variants
    with pytest.raises(ChangeError, match="no variant"):
        apply_change(build, dressed_as("dry"))


@pytest.mark.parametrize(
    ("mappings", "says"),
    [([{"material": 9, "variants": [0]}], "material 9"), ([{"material": 1, "variants": [7]}], "variant 7"),
     ([{"material": 1, "variants": 3}], "must list")],
)  # fmt: skip
def test_what_lies_is_one_line(mappings, says, tmp_path):
    with pytest.raises(SceneError, match=says):
        read_scene(written(tmp_path, mappings=mappings))
