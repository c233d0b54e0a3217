"""Pictures that a scene file names by paths of another machine, that came along elsewhere, as WebP, or not at all."""

import io
import json
import zipfile

import numpy as np
import pytest
from PIL import Image as PillowImage

from eddyfall.core.errors import SceneError
from eddyfall.core.frame.render import Request
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.scene.setup import parse_setup
from eddyfall.demo.shapes import Shape
from layer_scenes import EXACT
from scenes import Thing, build_of

FRONT = {"eye": {"eye": [0, 0, 2], "target": [0, 0, 0], "fov_y_deg": 50}}
GREEN, BLUE = (20, 200, 40), (20, 40, 200)


def encoded(rgb, kind="PNG"):
    stream = io.BytesIO()
    PillowImage.new("RGB", (4, 4), rgb).save(stream, kind, **({"lossless": True} if kind == "WEBP" else {}))
    return stream.getvalue()


def document(uri, normal=False, webp=False):
    """(JSON, binary) of an unlit card whose base colour is the picture at a path (and its normal map, too)."""
    uses = {"base_texture": TextureUse(0), **({"normal_texture": TextureUse(0)} if normal else {})}
    material = Material("card", unlit=not normal, **uses)
    build = build_of(
        Thing("card", Shape().quad((-1, -1, 0), (2, 0, 0), (0, 2, 0)), material),
        images=(Image("p", freeze(np.full((2, 2, 4), 255, np.uint8))),), setup={"viewpoints": FRONT, **EXACT},
    )  # fmt: skip
    data = write_glb(build.scene)
    length = int.from_bytes(data[12:16], "little")
    doc, binary = json.loads(data[20 : 20 + length]), data[28 + length :]
    doc["images"] = [{"uri": uri, "name": "paint"}]
    doc["buffers"][0]["uri"] = "a.bin"
    if webp:
        doc["textures"] = [{"sampler": 0, "extensions": {"EXT_texture_webp": {"source": 0}}}]
        doc["extensionsUsed"] = [*doc.get("extensionsUsed", []), "EXT_texture_webp"]
        doc["extensionsRequired"] = ["EXT_texture_webp"]
    return json.dumps(doc).encode(), binary


def folder_of(tmp_path, uri, files, **how):
    text, binary = document(uri, **how)
    for name, data in {"a.gltf": text, "a.bin": binary, **files}.items():
        (tmp_path / name).parent.mkdir(exist_ok=True, parents=True)
        (tmp_path / name).write_bytes(data)
    return tmp_path / "a.gltf"


def zip_of(tmp_path, uri, files, **how):
    text, binary = document(uri, **how)
    path = tmp_path / "a.zip"
    with zipfile.ZipFile(path, "w") as archive:
        for name, data in {"scene/a.gltf": text, "scene/a.bin": binary, **files}.items():
            archive.writestr(name, data)
    return path


def shown(renderer, scene):
    """(3,) sRGB codes at the middle of the card."""
    build = Build(scene, parse_setup({"eddyfall_setup": 1, "viewpoints": FRONT, **EXACT}))
    return renderer.frame(build, Request("eye", (32, 18))).display[9, 16]


@pytest.mark.parametrize(
    "uri", ["C:\\art\\tex\\Paint.PNG", "/home/someone/paint.png", "file:///d/paint.png", "../../tex/paint.png", "lost/paint.png"]
)
def test_a_path_of_another_machine_finds_its_picture_by_name(renderer, tmp_path, uri):
    """Exporters write such paths; none is opened, and the scene is not refused for it."""
    for path in (
        folder_of(tmp_path / "f", uri, {"textures/paint.png": encoded(GREEN)}),
        zip_of(tmp_path, uri, {"tex/paint.png": encoded(GREEN), "tex/other.png": encoded(BLUE)}),
    ):
        scene = read_scene(path)
        assert tuple(shown(renderer, scene)) == GREEN
        assert any("paint.png has its name, and is used" in note for note in scene.notes)


def test_a_right_path_is_taken_without_a_word_and_climbing_within_a_zip_is_right(renderer, tmp_path):
    for path in (
        folder_of(tmp_path / "f", "tex/paint%20one.png", {"tex/paint one.png": encoded(GREEN), "paint one.png": encoded(BLUE)}),
        zip_of(tmp_path, "../tex/paint.png", {"tex/paint.png": encoded(GREEN), "scene/paint.png": encoded(BLUE)}),
    ):
        scene = read_scene(path)
        assert tuple(shown(renderer, scene)) == GREEN and not scene.notes


def test_of_two_files_of_the_name_none_is_guessed(renderer, tmp_path):
    scene = read_scene(folder_of(tmp_path, "/x/paint.png", {"a/paint.png": encoded(GREEN), "b/paint.png": encoded(BLUE)}))
    assert any("no one file of that name came along; checks" in note for note in scene.notes)
    red, green, blue = (int(v) for v in shown(renderer, scene))
    assert 200 <= red <= 239 and 86 <= green <= 238 and 31 <= blue <= 233


def test_checks_are_drawn_for_colours_alone(renderer, tmp_path):
    """A missing picture of normals says nothing: the material is drawn without."""
    scene = read_scene(folder_of(tmp_path, "gone.png", {}, normal=True))
    material = scene.materials[0]
    assert material.normal_texture is None and scene.images[material.base_texture.image].pixels.shape == (8, 8, 4)


def test_webp_is_read_where_the_extension_names_it(renderer, tmp_path):
    path = folder_of(tmp_path, "paint.webp", {"paint.webp": encoded(GREEN, "WEBP")}, webp=True)
    scene = read_scene(path)
    assert tuple(shown(renderer, scene)) == GREEN and not scene.notes


def test_a_file_on_its_own_has_nothing_beside_it(tmp_path):
    """An upload lies among those of others: neither its own folder nor a name in it is looked at."""
    path = folder_of(tmp_path, "/x/paint.png", {"paint.png": encoded(GREEN)})
    with pytest.raises(SceneError, match="missing"):
        read_scene(path, beside_it=False)


def test_a_link_that_leads_out_is_not_followed(tmp_path):
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "paint.png").write_bytes(encoded(GREEN))
    path = folder_of(tmp_path / "f", "/x/paint.png", {})
    (tmp_path / "f" / "tex").symlink_to(outside)
    assert any("no one file of that name" in note for note in read_scene(path).notes)
