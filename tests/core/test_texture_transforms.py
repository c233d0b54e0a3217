"""Coordinates that a material moves before it reads a picture: KHR_texture_transform, as read, drawn, tested, followed and written."""

import json
import math
from dataclasses import replace

import numpy as np
import pytest

from eddyfall.core.errors import SceneError
from eddyfall.core.frame.core_sample import core_sample
from eddyfall.core.frame.render import Renderer, Request
from eddyfall.core.handover.documents.core_samples import CoreSampleDocument
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.gltf_write import moved, write_glb
from eddyfall.core.scene.model import STRAIGHT, Image, Material, TextureUse
from eddyfall.core.scene.read.gltf import read_scene
from eddyfall.core.scene.setup import parse_setup
from eddyfall.core.shade.textures import build_store, sample, sample_plain
from eddyfall.core.truth.reference.of_frame import Wanted, reference_of
from eddyfall.demo.shapes import Shape
from layer_scenes import EXACT
from scenes import Thing, build_of

THIRTY = (2 * math.cos(math.pi / 6), -3 * math.sin(math.pi / 6), 0.1, 2 * math.sin(math.pi / 6), 3 * math.cos(math.pi / 6), 0.2)
FRONT = {"eye": {"eye": [0, 0, 2], "target": [0, 0, 0], "fov_y_deg": 50}}


def picture(seed=1, edge=16, alpha=False):
    pixels = np.random.default_rng(seed).integers(0, 256, (edge, edge, 4), np.uint8)
    if not alpha:
        pixels[..., 3] = 255
    return Image(f"p{seed}", freeze(pixels))


def card_of(use, images, uv=None, **material):
    """A card of two metres before the eye, its base colour read by a use; uv (4, 2): its corners' coordinates."""
    shape = Shape().quad((-1, -1, 0), (2, 0, 0), (0, 2, 0))
    build = build_of(
        Thing("card", shape, Material("card", base_texture=use, unlit=material.pop("unlit", True), **material)),
        images=images, setup={"viewpoints": FRONT, **EXACT},
    )  # fmt: skip
    if uv is None:
        return build
    mesh = build.scene.meshes[0]
    (part,) = mesh.primitives
    attributes = {**part.attributes, "TEXCOORD_0": freeze(np.asarray(uv(part.attributes["TEXCOORD_0"]), np.float32))}
    scene = replace(build.scene, meshes=(replace(mesh, primitives=(replace(part, attributes=attributes),)),))
    return Build(scene, build.setup)


def test_the_worked_point():
    """uv (.25, .5), offset (.1, .2), scale (2, 3), 30 degrees: (-.21699, 1.74904), by the extension's matrices (translation, rotation,
    scale)."""
    use = TextureUse(0, turn=THIRTY)
    np.testing.assert_allclose(use.turned(np.array([0.25, 0.5])), (-0.21699, 1.74904), atol=5e-6)


def test_a_core_sample_says_where_a_picture_is_read():
    """The worked point, of a card that reads one place everywhere; without a transform it is the coordinates themselves."""
    for turn, due in ((THIRTY, [-0.216987, 1.749038]), (STRAIGHT, [0.25, 0.5])):
        build = card_of(TextureUse(0, turn=turn), (picture(),), lambda uv: np.tile([0.25, 0.5], (len(uv), 1)))
        drilled = CoreSampleDocument.from_core(core_sample(Renderer(), build, Request("eye", (96, 54)), 48, 27))
        (read,) = next(layer.facts["textures"] for layer in drilled.layers if "textures" in layer.facts)
        assert read["role"] == "base" and read["uv"] == pytest.approx(due, abs=1e-5)


def test_kernel_and_twin_read_at_moved_coordinates():
    image = picture()
    store, used = build_store(
        (image,), (Material("m", base_texture=TextureUse(0, turn=THIRTY)), Material("n", base_texture=TextureUse(0))), True
    )
    moved_slot, plain_slot = int(used[0, 0]), int(used[1, 0])
    rng, use = np.random.default_rng(3), TextureUse(0, turn=THIRTY)
    for _ in range(50):
        uv, dx, dy = rng.uniform(-2, 2, 2), rng.normal(0, 0.02, 2), rng.normal(0, 0.02, 2)
        got = sample(*uv, *dx, *dy, store.slots, moved_slot, store.levels, store.tables, store.texels, 0.0, 4)
        twin, _ = sample_plain(store, moved_slot, uv, dx, dy, 0.0, 4)
        np.testing.assert_allclose(got, twin, atol=2e-6)
        at, right, down = (use.turned(v) for v in (uv, uv + dx, uv + dy))
        same, _ = sample_plain(store, plain_slot, at, right - at, down - at, 0.0, 4)
        np.testing.assert_allclose(got, same, atol=2e-4)


@pytest.mark.parametrize("case", ["unlit", "cutout", "blended", "lit with a normal map"])
def test_a_frame_is_that_of_coordinates_moved_beforehand(renderer, case):
    turn, images = (0.0, -3.0, 0.25, 2.0, 0.0, 0.5), (picture(1, alpha=True), picture(2))
    more = {
        "unlit": {}, "cutout": {"alpha_mode": "MASK"}, "blended": {"alpha_mode": "BLEND"},
        "lit with a normal map": {"unlit": False, "metallic": 0.0, "roughness": 0.4},
    }[case]  # fmt: skip
    lamp = {"lights": {"sun": {"kind": "sun", "illuminance_lux": 3.0, "towards": [0.3, 0.5, 0.8]}}}

    def drawn(use, uv):
        given = {**more, **({"normal_texture": TextureUse(1, turn=use.turn)} if "normal" in case else {})}
        build = card_of(use, images, uv, **given)
        build = build.with_setup(
            parse_setup({**json.loads(build.setup.model_dump_json(exclude_defaults=True)), "eddyfall_setup": 1, **lamp})
        )
        return renderer.frame(build, Request("eye", (96, 54))).linear, reference_of(
            renderer, build, Wanted(request=Request("eye", (96, 54), (40, 20, 56, 34)), samples=2)
        ).tally.radiance

    frame, followed = drawn(TextureUse(0, turn=turn), None)
    same, known = drawn(TextureUse(0), TextureUse(0, turn=turn).turned)
    assert np.abs(frame - same).max() < 2e-5 and frame.max() > 0.05
    np.testing.assert_allclose(followed.mean(axis=0), known.mean(axis=0), rtol=1e-4)


def test_what_is_read_is_what_is_written(tmp_path):
    build = card_of(TextureUse(0, turn=THIRTY), (picture(),))
    data = write_glb(build.scene)
    (tmp_path / "a.glb").write_bytes(data)
    scene = read_scene(tmp_path / "a.glb")
    np.testing.assert_allclose(scene.materials[0].base_texture.turn, THIRTY, atol=1e-12)
    assert not any("KHR_texture_transform" in note for note in scene.notes)
    for angle, sx, sy in ((0.3, -2.0, 1.5), (-2.0, 0.5, -4.0)):
        c, s = math.cos(angle), math.sin(angle)
        turn = (c * sx, -s * sy, 0.1, s * sx, c * sy, 0.2)
        told = moved(turn)
        c, s, (sx, sy) = math.cos(told["rotation"]), math.sin(told["rotation"]), told["scale"]
        np.testing.assert_allclose((c * sx, -s * sy, 0.1, s * sx, c * sy, 0.2), turn, atol=1e-12)


def with_info(tmp_path, change, required=False):
    """The card's file, its base texture's info changed."""
    data = write_glb(card_of(TextureUse(0), (picture(),)).scene)
    length = int.from_bytes(data[12:16], "little")
    doc = json.loads(data[20 : 20 + length])
    change(doc["materials"][0]["pbrMetallicRoughness"]["baseColorTexture"])
    doc["extensionsUsed"] = [*doc.get("extensionsUsed", []), "KHR_texture_transform"]
    if required:
        doc["extensionsRequired"] = ["KHR_texture_transform"]
    text = json.dumps(doc).encode()
    text += b" " * (-len(text) % 4)
    rest = data[20 + length :]
    path = tmp_path / "b.glb"
    path.write_bytes(
        data[:8] + (20 + len(text) + len(rest)).to_bytes(4, "little") + len(text).to_bytes(4, "little") + b"JSON" + text + rest
    )
    return path


def test_its_own_coordinate_set_wins_and_a_required_one_is_read(tmp_path):
    def own(info):
        info["extensions"] = {"KHR_texture_transform": {"scale": [16, 48], "texCoord": 1}}

    use = read_scene(with_info(tmp_path, own, required=True)).materials[0].base_texture
    assert use.uv_set == 1 and use.turn == pytest.approx((16, 0, 0, 0, 48, 0))


@pytest.mark.parametrize(("entry", "says"), [
    ({"scale": [1]}, "scale"), ({"offset": [0, "x"]}, "offset"), ({"rotation": "half"}, "rotation"), (7, "KHR_texture_transform"),
    ({"texCoord": -1}, "texCoord"),
])  # fmt: skip
def test_hostile_ones_are_one_line(tmp_path, entry, says):
    path = with_info(tmp_path, lambda info: info.update(extensions={"KHR_texture_transform": entry}))
    with pytest.raises(SceneError, match=says):
        read_scene(path)
