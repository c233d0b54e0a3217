"""Materials told by specular and gloss, as metallic-roughness ones.

Grey specular is an index of refraction, exactly. What is coloured is solved for metal as the Khronos Group published it with
KHR_materials_pbrSpecularGlossiness (its example that converts between the two; formulas from memory)."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from PIL import Image as PillowImage

from eddyfall.core.errors import ChangeError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Gloss, Image, Material
from eddyfall.core.shade.srgb import DECODE_TABLE, encode

DIELECTRIC = 0.04
GREY = 1e-6  # specular channels that differ by no more are grey
METAL_F0 = 0.2  # a black body that mirrors more than any clear one is metal: both draw it alike


def brightness(rgb: np.ndarray) -> np.ndarray:
    """Perceived brightness of linear colours (..., 3), as the published solve has it."""
    return np.asarray(np.sqrt(np.asarray(rgb, float) ** 2 @ np.array([0.299, 0.587, 0.114])))


def solved_metallic(diffuse: np.ndarray, specular: np.ndarray, rest: np.ndarray) -> np.ndarray:
    """How metallic (...,) what has these brightnesses is; rest: 1 less the greatest channel of specular."""
    a = DIELECTRIC
    b = diffuse * rest / (1 - DIELECTRIC) + specular - 2 * DIELECTRIC
    c = DIELECTRIC - specular
    root = np.sqrt(np.maximum(b * b - 4 * a * c, 0))
    return np.where(specular < DIELECTRIC, 0.0, np.clip((root - b) / (2 * a), 0, 1))


def by_metal(diffuse: np.ndarray, specular: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Base colour (..., 3) and metallic (...,) of linear diffuse and specular colours (..., 3)."""
    diffuse, specular = np.asarray(diffuse, float), np.asarray(specular, float)
    rest = 1 - specular.max(axis=-1)
    metallic = solved_metallic(brightness(diffuse), brightness(specular), rest)
    m = metallic[..., None]
    of_diffuse = diffuse * (rest[..., None] / (1 - DIELECTRIC) / np.maximum(1 - m, 1e-6))
    of_specular = (specular - DIELECTRIC * (1 - m)) / np.maximum(m, 1e-6)
    return np.clip(of_diffuse + (of_specular - of_diffuse) * m**2, 0, 1), metallic


def ior_of(f0: float) -> float:
    """Index of refraction of what mirrors f0 (below 1) head on (Fresnel)."""
    root = math.sqrt(f0)
    return (1 + root) / (1 - root)


@dataclass(frozen=True)
class Solved:
    """The material without its specular and gloss, pictures that were made for it, in words how."""

    material: Material
    images: tuple[Image, ...]
    how: str


def solved(material: Material, images: tuple[Image, ...]) -> Solved:
    """A metallic-roughness material that looks like one told by specular and gloss; images: the scene's, after which what is made comes.
    ChangeError where its two pictures lie differently, so that none can be made of both."""
    g = material.gloss
    assert g is not None
    low, high = min(g.specular_rgb), max(g.specular_rgb)
    bare = replace(material, gloss=None, roughness=1 - g.glossiness, metallic=0.0, base_rgba=g.diffuse_rgba)
    dark = max(g.diffuse_rgba[:3]) == 0 and g.diffuse_texture is None
    if g.specular_texture is None and high - low <= GREY and high < 0.9 and not (dark and high > METAL_F0):
        return Solved(replace(bare, ior=ior_of(high), base_texture=g.diffuse_texture), (), "grey specular: ior")
    if g.specular_texture is None and g.diffuse_texture is None:
        base, metallic = by_metal(np.array(g.diffuse_rgba[:3]), np.array(g.specular_rgb))
        r, gr, b = (float(v) for v in base)
        made = replace(bare, base_rgba=(r, gr, b, g.diffuse_rgba[3]), metallic=float(metallic))
        return Solved(made, (), "solved for metal")
    return _solved_texels(bare, g, images)


def as_said(material: Material, images: tuple[Image, ...]) -> Solved:
    """The material as a base shader of specular and gloss draws it: exactly, by index of refraction and tint of its mirror, where no
    picture says its specular; else as it is solved. ChangeError as `solved`."""
    g = material.gloss
    assert g is not None
    high = min(max(g.specular_rgb), 1 - 1e-6)
    if g.specular_texture is not None or high <= 0:
        return solved(material, images)
    r, gr, b = (c / max(g.specular_rgb) for c in g.specular_rgb)
    said = replace(
        material, gloss=None, roughness=1 - g.glossiness, metallic=0.0, base_rgba=g.diffuse_rgba, base_texture=g.diffuse_texture,
        ior=ior_of(high), specular_rgb=(r, gr, b),
    )  # fmt: skip
    return Solved(said, (), "as it is said")


def _solved_texels(bare: Material, g: Gloss, images: tuple[Image, ...]) -> Solved:
    first, second = g.diffuse_texture, g.specular_texture
    use = first or second
    assert use is not None
    if first is not None and second is not None and replace(first, image=0) != replace(second, image=0):
        raise ChangeError("its diffuse and specular pictures lie differently: none can be made of both")
    sizes = [images[u.image].pixels.shape[:2] for u in (first, second) if u is not None]
    height, width = max(h for h, _ in sizes), max(w for _, w in sizes)
    diffuse = _texels(images[first.image], height, width) if first else np.full((height, width, 4), 255, np.uint8)
    specular = _texels(images[second.image], height, width) if second else np.full((height, width, 4), 255, np.uint8)
    base, metallic = by_metal(
        DECODE_TABLE[diffuse[..., :3]].astype(float) * np.array(g.diffuse_rgba[:3]),
        DECODE_TABLE[specular[..., :3]].astype(float) * np.array(g.specular_rgb),
    )
    rough = 1 - specular[..., 3] / 255 * g.glossiness
    base_codes = np.concatenate([_codes(encode(base)), diffuse[..., 3:]], axis=2)
    packed = np.stack([np.full_like(rough, 1.0), rough, metallic, np.full_like(rough, 1.0)], axis=2)
    made = (
        Image(f"{bare.name} base", freeze(base_codes)), Image(f"{bare.name} metallic-roughness", freeze(_codes(packed))),
    )  # fmt: skip
    at = len(images)
    material = replace(
        bare, base_rgba=(1.0, 1.0, 1.0, g.diffuse_rgba[3]), roughness=1.0, metallic=1.0, base_texture=replace(use, image=at),
        metallic_roughness_texture=replace(use, image=at + 1),
    )  # fmt: skip
    return Solved(material, made, "solved for metal, texel by texel")


def _texels(image: Image, height: int, width: int) -> np.ndarray:
    if image.pixels.shape[:2] == (height, width):
        return image.pixels
    return np.asarray(PillowImage.fromarray(image.pixels).resize((width, height), PillowImage.Resampling.BILINEAR))


def _codes(v: np.ndarray) -> np.ndarray:
    return np.asarray(np.clip(v, 0, 1) * 255 + 0.5).astype(np.uint8)
