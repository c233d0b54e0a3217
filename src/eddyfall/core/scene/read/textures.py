"""How a material uses a picture: sampler, coordinates, and what is done to them first (KHR_texture_transform)."""

import math
from typing import Any

from eddyfall.core.errors import SceneError
from eddyfall.core.scene.model import STRAIGHT, TextureUse, Turn, Wrap
from eddyfall.core.scene.read.accessors import index_into, number, numbers, objects, part_of, whole
from eddyfall.core.scene.read.reading import Reading

COLOURED = ("baseColorTexture", "emissiveTexture", "diffuseTexture")  # what a missing picture is seen in
WRAPS: dict[int, Wrap] = {33071: "clamp", 33648: "mirror", 10497: "repeat"}
OTHER_FORMS = ("KHR_texture_basisu", "EXT_texture_webp")  # the same picture in another format: taken first, as the standard asks


def texture_use(r: Reading, owner: dict[str, Any], key: str, here: str) -> TextureUse | None:
    """How `owner` uses the picture of its slot `key`; None if it has none, or what is missing says nothing there."""
    info = owner.get(key)
    if info is None:
        return None
    if not isinstance(info, dict):
        raise SceneError(f"{key} must be an object", here)
    textures = objects(r.doc, "textures")
    entry = textures[index_into(info.get("index"), textures, "texture", f"{here} {key}")]
    extensions = part_of(entry, "extensions", f"{here} {key}")
    forms = [part_of(extensions, name, f"{here} {key}") for name in OTHER_FORMS]
    source = next((form for form in forms if "source" in form), entry)
    if "source" not in source:
        r.notes.append(f"left out: {here} {key}: its texture has no source image")
        return None
    image = index_into(source["source"], objects(r.doc, "images"), "image", f"{here} {key}")
    if image in r.missing and key not in COLOURED:
        return None  # checks say nothing of roughness or normals
    sampler: dict[str, Any] = {}
    if "sampler" in entry:
        samplers = objects(r.doc, "samplers")
        sampler = samplers[index_into(entry["sampler"], samplers, "sampler", f"{here} {key}")]
    modes: list[Wrap] = []
    for axis in ("wrapS", "wrapT"):
        mode = WRAPS.get(whole(sampler, axis, f"{here} {key}", default=10497))
        if mode is None:
            raise SceneError(f"sampler {axis} {sampler[axis]} does not exist", f"{here} {key}")
        modes.append(mode)
    moved = part_of(part_of(info, "extensions", f"{here} {key}"), "KHR_texture_transform", f"{here} {key}")
    uv_set = whole(moved if "texCoord" in moved else info, "texCoord", here, default=0)
    if uv_set > 1:
        r.notes.append(f"not drawn yet: {here} {key} uses TEXCOORD_{uv_set}; TEXCOORD_0 is used")
        uv_set = 0
    return TextureUse(image, modes[0], modes[1], sampler.get("magFilter") == 9728, uv_set, _turn(moved, f"{here} {key}"))


def _turn(entry: dict[str, Any], here: str) -> Turn:
    """What KHR_texture_transform does to coordinates: scaled, then turned, then moved."""
    if not entry:
        return STRAIGHT
    (x, y), (sx, sy) = numbers(entry, "offset", 2, (0.0, 0.0), here), numbers(entry, "scale", 2, (1.0, 1.0), here)
    angle = number(entry, "rotation", 0.0, here)
    cosine, sine = math.cos(angle), math.sin(angle)
    return cosine * sx, -sine * sy, x, sine * sx, cosine * sy, y
