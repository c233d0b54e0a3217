"""Pictures that come after the scene: which of them is which that is missing, by hash, by name or by look, and the scene with them."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal
from urllib.parse import unquote

import numpy as np
from PIL import Image as PillowImage

from eddyfall.core.errors import SceneError
from eddyfall.core.hashing import digest, freeze
from eddyfall.core.scene.gltf_write import write_glb
from eddyfall.core.scene.images import ImageBudget, decode_image
from eddyfall.core.scene.model import Image, Scene
from eddyfall.core.scene.read.container import open_container
from eddyfall.core.scene.read.gltf import scene_of
from eddyfall.core.scene.read.pictures import CHECKS

How = Literal["hash", "name", "a name alike", "look", "the only one of its kind"]
SURE: tuple[How, ...] = ("hash", "name")
THUMB = 16  # px that looks are held against one another at
ALIKE = 14.0  # codes on the mean up to which two pictures look the same
FLAT_BLUE = 40.0  # codes from (128, 128, 255) on the mean: a map of normals
# What slots are called in file names (common practice, no source).
WORDS = {
    "base": ("basecolor", "basecolour", "albedo", "diffuse", "diff", "color", "colour", "col", "base", "d"),
    "normal": ("normal", "normals", "nrm", "nor", "nml", "n"),
    "metallic_roughness": (
        "metallicroughness",
        "metalrough",
        "roughness",
        "rough",
        "metallic",
        "metal",
        "metalness",
        "orm",
        "arm",
        "mr",
    ),
    "emissive": ("emissive", "emission", "emit", "glow", "e"),
    "occlusion": ("occlusion", "ambientocclusion", "ao"),
    "transmission": ("transmission", "opacity"),
    "thickness": ("thickness",),
    "clear coat": ("clearcoat", "coat"),
    "clear coat roughness": ("clearcoatroughness", "coatroughness"),
    "clear coat normal": ("clearcoatnormal", "coatnormal"),
}
SLOTS = {
    "baseColorTexture": "base", "normalTexture": "normal", "metallicRoughnessTexture": "metallic_roughness",
    "emissiveTexture": "emissive", "occlusionTexture": "occlusion", "transmissionTexture": "transmission", "thicknessTexture": "thickness",
    "diffuseTexture": "base", "specularGlossinessTexture": "metallic_roughness", "clearcoatTexture": "clear coat",
    "clearcoatRoughnessTexture": "clear coat roughness", "clearcoatNormalTexture": "clear coat normal",
}  # fmt: skip


@dataclass(frozen=True)
class Lost:
    """A picture that is missing: its number, name and file name as the scene has them; what it is for: (material, role) each."""

    image: int
    name: str
    file: str
    uses: tuple[tuple[str, str], ...]

    @property
    def roles(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys(role for _, role in self.uses))


@dataclass(frozen=True)
class Offered:
    """A picture that was supplied: its file name, bytes, pixels uint8 (h, w, 4)."""

    name: str
    data: bytes
    pixels: np.ndarray


@dataclass(frozen=True)
class Found:
    """A place that a supplied picture finds, and by what; apart: codes on the mean from what was there before, where that is known."""

    lost: Lost
    offered: str
    how: How
    apart: float | None = None

    @property
    def sure(self) -> bool:
        return self.how in SURE


@dataclass(frozen=True)
class Supply:
    """What each supplied picture is, what is still missing, what found no place."""

    found: tuple[Found, ...]
    missing: tuple[Lost, ...]
    left: tuple[str, ...]


def offered(name: str, data: bytes, budget: ImageBudget) -> Offered:
    """A supplied picture. SceneError for what is none, or too large."""
    try:
        pixels, _ = decode_image(data, budget, name)
    except FileNotFoundError as error:
        raise SceneError(str(error), name) from None
    return Offered(name, data, pixels)


def lost_pictures(scene: Scene) -> tuple[Lost, ...]:
    """The pictures that are missing in a scene that was read from a file."""
    if scene.source is None:
        return ()
    doc = scene.source.json
    found = []
    for image in scene.missing:
        entry = doc["images"][image]
        uri = str(entry.get("uri", ""))
        file = "" if uri.startswith("data:") else re.split(r"[/\\]", unquote(uri))[-1]
        uses = tuple(
            (scene.material_keys[m], role) for m, material in enumerate(doc.get("materials", [])) for role in _roles(doc, material, image)
        )  # fmt: skip
        found.append(Lost(image, scene.images[image].name, file, uses))
    return tuple(found)


def _roles(doc: dict[str, object], material: object, image: int) -> list[str]:
    """Roles that a material's entry reads an image for, wherever in it a slot stands."""
    found = []
    if isinstance(material, dict):
        for key, value in material.items():
            if key in SLOTS and isinstance(value, dict) and _image_of(doc, value.get("index")) == image:
                found.append(SLOTS[key])
            else:
                found += _roles(doc, value, image)
    return found


def _image_of(doc: dict[str, object], texture: object) -> int | None:
    textures = doc.get("textures")
    if not isinstance(textures, list) or not isinstance(texture, int) or not 0 <= texture < len(textures):
        return None
    entry = textures[texture]
    forms = [f for f in (entry.get("extensions") or {}).values() if isinstance(f, dict) and "source" in f]
    source = (forms[0] if forms else entry).get("source")
    return source if isinstance(source, int) else None


def matched(scene: Scene, pictures: Sequence[Offered], older: Scene | None = None) -> Supply:
    """Which supplied picture is which that is missing: the one an older delivery had there to the byte, the one of its file name, of a name
    that says the same, the one that looks like what was there, the only one left of its kind. Each is used for one file."""
    lost, free = list(lost_pictures(scene)), list(pictures)
    found: list[Found] = []

    def take(one: Lost, picture: Offered, how: How, apart: float | None = None) -> None:
        found.append(Found(one, picture.name, how, apart))
        lost.remove(one)
        free.remove(picture)

    known = {one.image: _known(one, older) for one in lost}
    for one in list(lost):
        was = known[one.image]
        same = [p for p in free if was is not None and digest(p.pixels) == digest(was)]
        if same:
            take(one, same[0], "hash", 0.0)
    for exact in (True, False):
        for one in list(lost):
            names = {_plain(one.file, exact), _plain(one.name, exact)} - {""}
            fits = [p for p in free if _plain(p.name, exact) in names]
            if len(fits) == 1:
                take(one, fits[0], "name", _apart(fits[0].pixels, known[one.image]))
    for one in list(lost):
        wanted = {w for w in (_words(one.file), _words(one.name)) if w[0]}
        fits = [p for p in free if _words(p.name) in wanted and _kind_fits(p, one)]
        if len(fits) == 1:
            take(one, fits[0], "a name alike", _apart(fits[0].pixels, known[one.image]))
    pairs = sorted(
        ((d, one, p) for one in lost for p in free if (d := _apart(p.pixels, known[one.image])) is not None and d <= ALIKE),
        key=lambda t: t[0],
    )
    for d, one, p in pairs:
        if one in lost and p in free:
            take(one, p, "look", d)
    for one in list(lost):  # a file that the scene lists twice is one picture
        twin = next((f for f in found if f.lost.file and f.lost.file == one.file), None)
        if twin is not None:
            found.append(Found(one, twin.offered, twin.how, twin.apart))
            lost.remove(one)
    for one in list(lost):
        mine = [p for p in free if _kind_fits(p, one)]
        rivals = [o for o in lost if o is not one and any(_kind_fits(p, o) for p in mine)]
        if len(mine) == 1 and not rivals:
            take(one, mine[0], "the only one of its kind")
    return Supply(tuple(sorted(found, key=lambda f: f.lost.image)), tuple(lost), tuple(p.name for p in free))


def _known(one: Lost, older: Scene | None) -> np.ndarray | None:
    """What an older delivery had in the place of what is missing: for the same material and role."""
    if older is None:
        return None
    for material, role in one.uses:
        if material in older.material_keys:
            use = getattr(older.materials[older.material_keys.index(material)], f"{role}_texture", None)
            if use is not None and use.image not in older.missing:
                pixels: np.ndarray = older.images[use.image].pixels
                return pixels
    return None


def _plain(name: str, exact: bool) -> str:
    name = re.split(r"[/\\]", name)[-1].lower()
    return name if exact else name.rsplit(".", 1)[0]


def _words(name: str) -> tuple[str, str]:
    """(what it is of, what it is for) that a file name says, without versions and sizes."""
    stem = re.sub(r"([a-z])([A-Z])", r"\1_\2", re.split(r"[/\\]", name)[-1].rsplit(".", 1)[0]).lower()
    parts = [p for p in re.split(r"[^a-z0-9]+", stem) if p and not re.fullmatch(r"v?\d+|\d+k|final|new|tex|texture|t", p)]
    joined = "".join(parts)
    for role, words in WORDS.items():
        for word in words:
            if parts and parts[-1] == word:
                return "_".join(parts[:-1]), role
            if len(word) > 4 and joined.endswith(word) and joined != word:
                return joined.removesuffix(word), role
    return "_".join(parts), ""


def _kind_fits(picture: Offered, one: Lost) -> bool:
    """Whether a picture can be for what one that is missing was for: maps of normals look like one another and like nothing else."""
    if not one.roles:
        return True
    mean = picture.pixels[..., :3].reshape(-1, 3).mean(axis=0)
    normals = float(np.abs(mean - (128, 128, 255)).mean()) < FLAT_BLUE
    return normals == ("normal" in one.roles)


def _apart(a: np.ndarray, b: np.ndarray | None) -> float | None:
    """Mean difference in codes of two pictures at the size of a thumb."""
    if b is None:
        return None
    small = [np.asarray(PillowImage.fromarray(p).resize((THUMB, THUMB), PillowImage.Resampling.BOX), float) for p in (a, b)]
    return float(np.abs(small[0] - small[1]).mean())


def supplied(path: Path, pictures: Mapping[int, bytes], beside_it: bool = True) -> bytes:
    """GLB bytes of a scene file with pictures, by number, in their places. SceneError for one that cannot be read."""
    scene = scene_of(open_container(path, beside_it), pictures)
    images = tuple(Image(i.name, freeze(np.array(CHECKS))) if k in pictures else i for k, i in enumerate(scene.images))
    return write_glb(scene, replace(scene, images=images))


def taken(supply: Supply, pictures: Sequence[Offered]) -> dict[int, bytes]:
    """Bytes of pictures by the number of the image that each is for."""
    data = {p.name: p.data for p in pictures}
    return {f.lost.image: data[f.offered] for f in supply.found}
