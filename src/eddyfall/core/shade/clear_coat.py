"""Clear coats, as KHR_materials_clearcoat has them: a layer of varnish (index of refraction 1.5) over all that a material is else.

Of a share s = clearcoat F(n.v) the coat is seen, of 1 - s what lies under it, with Schlick's F of 0.04 at the coat's own normal; the coat
itself is the GGX lobe without Fresnel, which s stands for (the extension's `fresnel_coat`, from memory). So a coat is a surface that
reflects all light of its lobe, shaded by what shades every surface, from rows of its own."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from eddyfall.core.kernel import light_helper
from eddyfall.core.scene.model import Image, Material
from eddyfall.core.shade.columns import NORMAL_XYZ, OPEN, ROW
from eddyfall.core.shade.surface import Surfaces, material_factors
from eddyfall.core.shade.textures import build_store

F0_OF_COAT = 0.04
RED, GREEN = 0, 1


class Coats(NamedTuple):
    """strength (m,) of each material, 0: none; surfaces: the coats as materials of their own, whose occlusion map is what the strength is
    multiplied by; means (m, 2): strength and roughness with the means of their pictures. All empty where nothing is coated."""

    strength: np.ndarray
    surfaces: Surfaces | None
    means: np.ndarray


NO_COATS = Coats(np.zeros(0), None, np.zeros((0, 2)))


def make_coats(materials: tuple[Material, ...], images: tuple[Image, ...], mips: bool, bias: float, taps: int) -> Coats:
    """The coats of a scene's materials, with a row for the default material, which has none."""
    if not any(m.coated for m in materials):
        return NO_COATS
    layers = tuple(_as_material(m) for m in materials)
    store, used = build_store(images, layers, mips)
    means = [
        (m.clearcoat * _mean(images, m.clearcoat_texture, RED), m.clearcoat_roughness * _mean(images, m.clearcoat_roughness_texture, GREEN))
        if m.coated else (0.0, 0.0) for m in materials
    ]  # fmt: skip
    strength = np.array([m.clearcoat if m.coated else 0.0 for m in materials] + [0.0])
    return Coats(
        strength, Surfaces(material_factors(layers), used, *store, float(bias), int(taps)), np.array([*means, (0.0, 0.0)])
    )


def _as_material(m: Material) -> Material:
    """A coat as a material that is nothing but its mirror: black, and F0 of 1 (an index of refraction of 0 says so)."""
    if not m.coated:
        return Material(m.name, base_rgba=(0.0, 0.0, 0.0, 1.0), metallic=0.0)
    return Material(
        m.name, base_rgba=(0.0, 0.0, 0.0, 1.0), metallic=0.0, ior=0.0, roughness=m.clearcoat_roughness,
        metallic_roughness_texture=m.clearcoat_roughness_texture, normal_texture=m.clearcoat_normal_texture,
        normal_scale=m.clearcoat_normal_scale, occlusion_texture=m.clearcoat_texture,
    )  # fmt: skip


def _mean(images: tuple[Image, ...], use: object, channel: int) -> float:
    """Mean of a channel of a picture, 1 where there is none."""
    image = getattr(use, "image", None)
    return 1.0 if image is None else float(images[image].pixels[..., channel].mean() / 255)


@light_helper
def coat_share(strength, n_dot_v):
    """Share of what is seen that the coat stands for."""
    m = 1.0 - min(abs(n_dot_v), 1.0)
    m2 = m * m
    return strength * (F0_OF_COAT + (1.0 - F0_OF_COAT) * m2 * m2 * m)


def share_plain(strength: np.ndarray, n_dot_v: np.ndarray) -> np.ndarray:
    """Plain twin of `coat_share`: (n,) of strengths and cosines (n,)."""
    return np.asarray(strength * (F0_OF_COAT + (1 - F0_OF_COAT) * (1 - np.clip(np.abs(n_dot_v), 0, 1)) ** 5))


def share_of_coats(rows: np.ndarray, under: np.ndarray, strength: np.ndarray, to_eye: np.ndarray) -> np.ndarray:
    """(n,) share of what is seen that coats stand for: rows (n, row) of their own, of which the occlusion is their strength's picture and
    becomes that of the surfaces under them (n, row); strength (n,) of their materials, to_eye (n, 3)."""
    share = share_plain(strength * rows[:, OPEN], np.einsum("nk,nk->n", rows[:, NORMAL_XYZ].astype(np.float64), to_eye))
    rows[:, OPEN] = under[:, OPEN]
    return share


NO_ROWS, NO_SHARE = np.zeros((1, 1, ROW), np.float32), np.zeros((1, 1))
