"""Cards with alpha pictures on them whose edges are worked out by hand: leaves, foliage, spray."""

import numpy as np
from scipy.ndimage import gaussian_filter

from eddyfall.core.hashing import freeze
from eddyfall.core.scene.model import Image, Material, TextureUse
from eddyfall.core.shade.srgb import encode
from layer_scenes import EXACT, card, unlit
from scenes import build_of

EDGE = 64
LEAF, WHITE = (0.10, 0.25, 0.06), (1.0, 1.0, 1.0)


def codes(rgb, alpha):
    return [*np.rint(encode(np.array(rgb)) * 255).astype(int), round(alpha * 255)]


def one_card(picture, bank=0.2, **material):
    """A card that fills the frame, with a picture (h, w, 4) of codes whose middle is seen in the frame's, before a bank of so many nits."""
    images = (Image("p", freeze(np.array(picture, np.uint8))),)
    use = TextureUse(0, wrap_u="clamp", wrap_v="clamp")
    thing = card("card", (-0.5, 0.5), (1.1, 2.1), -1.0, Material("card", base_texture=use, unlit=True, alpha_mode="BLEND"))
    return build_of(
        card("bank", (-50, 50), (-50, 50), -9.0, unlit("bank", bank)), thing, images=images,
        setup={
            "viewpoints": {"eye": {"eye": [0, 1.6, 0], "target": [0, 1.6, -1], "fov_y_deg": 20}},
            "materials": {"card": material}, "textures": {"mips": False}, **EXACT,
        },
    )  # fmt: skip


def leaf_alpha(rng, soft=1.0):
    y, x = np.mgrid[0:EDGE, 0:EDGE] / EDGE - 0.5
    return np.clip((rng.uniform(0.25, 0.4) - np.hypot(x * rng.uniform(0.8, 1.6), y)) * EDGE / soft + 0.5, 0, 1)


def leaves_before(bank, pixels, mode="BLEND", z=-4.0, half=1.0, views=None, **material):
    """A card of 2 m with a picture on it, before a bank."""
    thing = card("leaves", (-half, half), (1.6 - half, 1.6 + half), z, pictured_material(mode))
    thing.shape.uvs[-1] = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], np.float32)
    views = views or {"eye": {"eye": [0, 1.6, 0], "target": [0, 1.6, -1], "fov_y_deg": 40}}
    return build_of(
        card("bank", (-90, 90), (-90, 90), -60.0, unlit("bank", bank)), thing, images=(Image("leaf picture", freeze(pixels)),),
        setup={"viewpoints": views, "materials": {"leaf": material} if material else {}, **EXACT},
    )  # fmt: skip


def pictured_material(mode):
    use = TextureUse(0, wrap_u="clamp", wrap_v="clamp")
    return Material("leaf", base_texture=use, unlit=True, alpha_mode=mode, double_sided=True, alpha_cutoff=0.5)


def leaf_on(ground, soft=1.0, rgb=(89, 137, 69)):
    """A leaf of one colour, codes of what is clear around it."""
    alpha = leaf_alpha(np.random.default_rng(3), soft)
    pixels = np.zeros((EDGE, EDGE, 4), np.uint8)
    pixels[..., :3] = np.where(alpha[..., None] > 0, np.array(rgb), np.array(ground))
    pixels[..., 3] = np.rint(alpha * 255)
    return pixels


def noise(share, edge=256, seed=5):
    pixels = np.full((edge, edge, 4), 200, np.uint8)
    pixels[..., 3] = np.where(np.random.default_rng(seed).random((edge, edge)) < share, 255, 0)
    return pixels


def foliage(share, edge=256, seed=5):
    """Small leaves all over, on so much of it."""
    soft = gaussian_filter(np.random.default_rng(seed).normal(size=(edge, edge)), 1.5, mode="wrap")
    pixels = np.full((edge, edge, 4), 200, np.uint8)
    pixels[..., 3] = np.where(soft > np.quantile(soft, 1 - share), 255, 0)
    return pixels


def disc(n, radius=0.4):
    """A disc of so many widths in the middle of a picture of n texels."""
    y, x = np.mgrid[0:n, 0:n] + 0.5 - n / 2
    return (np.hypot(x, y) <= radius * n).astype(float)


def spray(count=1, budget=0.0, n=256):
    """Cards of 2 m with a disc of radius .8 m on them, one behind the other, before a bank."""
    pixels = np.full((n, n, 4), 200, np.uint8)
    pixels[..., 3] = np.rint(disc(n) * 128)
    use = TextureUse(0, wrap_u="clamp", wrap_v="clamp")
    spray = Material("spray", base_texture=use, unlit=True, alpha_mode="BLEND", double_sided=True)
    things = []
    for k in range(count):
        thing = card(f"spray_{k}", (-1, 1), (0.6, 2.6), -4.0 - 0.1 * k, spray)
        thing.shape.uvs[-1] = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], np.float32)
        things.append(thing)
    return build_of(
        card("bank", (-90, 90), (-90, 90), -60.0, unlit("bank", 0.3)), *things, images=(Image("spray picture", freeze(pixels)),),
        setup={
            "viewpoints": {"eye": {"eye": [0, 1.6, 0], "target": [0, 1.6, -1], "fov_y_deg": 40}},
            "budget": {"blended_layers": budget}, **EXACT,
        },
    )  # fmt: skip


def two_cards(by):
    """Two black cards of alpha .5, drawn by their alpha tests, before a bank of 1 nit."""
    half = Image("half", freeze(np.full((8, 8, 4), 128, np.uint8)))
    things = []
    for k in range(2):
        material = Material(
            f"half {k}", (0, 0, 0, 1), base_texture=TextureUse(0), unlit=True, alpha_mode="MASK", double_sided=True
        )
        things.append(card(f"card_{k}", (-2 + 0.37 * k, 2), (-2, 2 - 0.29 * k), -4.0 - k, material))
    return build_of(
        card("bank", (-9, 9), (-9, 9), -8.0, unlit("bank", 1.0)), *things, images=(half,),
        setup={
            "materials": {f"half {k}": {"cut_by": by} for k in range(2)},
            "viewpoints": {"eye": {"eye": [0, 0, 0], "target": [0, 0, -1], "fov_y_deg": 30}}, **EXACT,
        },
    )  # fmt: skip
