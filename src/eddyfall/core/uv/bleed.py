"""Bleed of a texture's background into its charts at mip levels: how far the paint goes beyond the charts, and from which distance on
it is not enough."""

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy.ndimage import distance_transform_cdt, distance_transform_edt

from eddyfall.core.errors import ChangeError
from eddyfall.core.hashing import freeze
from eddyfall.core.scene.build import Build
from eddyfall.core.scene.changes import operation
from eddyfall.core.scene.model import Image
from eddyfall.core.shade.srgb import decode
from eddyfall.core.uv.gutters import mip_distance_m, padding_for_mip, safe_mip

SAME_CODES = 12.0
MOST_PADDING = 64
CLEAR = 2  # codes of alpha that count as nothing


@dataclass(frozen=True)
class Bleed:
    """padding: texels beyond the charts that still hold their colour; safe: last clean mip level; first_bad_m: distance at which the next
    level comes in (trilinear: level - 1 is left); level_m: distance by level; shimmer_m: where one texel falls on one pixel."""

    padding: int
    safe: int
    texels_per_m: float
    focal_px: float
    mip_chain_bytes: int
    base_bytes: int

    @property
    def first_bad_m(self) -> float:
        """Trilinear filtering mixes level k + 1 in as soon as the distance passes that of level k."""
        return mip_distance_m(self.safe, self.texels_per_m, self.focal_px)

    @property
    def first_bad_nearest_m(self) -> float:
        """With the nearest mip level, level k + 1 starts half a level later."""
        return mip_distance_m(self.safe + 0.5, self.texels_per_m, self.focal_px)

    @property
    def shimmer_m(self) -> float:
        """Without mips it shimmers from where a texel is smaller than a pixel."""
        return self.focal_px / self.texels_per_m

    def level_m(self, level: int) -> float:
        return mip_distance_m(level, self.texels_per_m, self.focal_px)


def coverage(uv: np.ndarray, width: int, height: int) -> np.ndarray:
    """(h, w) bool: texels whose centre lies in a triangle uv (t, 3, 2), modulo 1."""
    grid = np.zeros((height, width), bool)
    size = np.array([width, height], float)
    for tri in np.asarray(uv, float) * size:
        low, high = np.floor(tri.min(axis=0)).astype(int), np.ceil(tri.max(axis=0)).astype(int)
        if (high - low).max() > 4 * max(width, height):
            continue
        x, y = np.meshgrid(np.arange(low[0], high[0]), np.arange(low[1], high[1]))
        inside = np.ones(x.shape, bool)
        turn = np.sign((tri[1, 0] - tri[0, 0]) * (tri[2, 1] - tri[0, 1]) - (tri[1, 1] - tri[0, 1]) * (tri[2, 0] - tri[0, 0]))
        for a, b in zip(tri, np.roll(tri, -1, axis=0)):
            inside &= turn * ((b[0] - a[0]) * (y + 0.5 - a[1]) - (b[1] - a[1]) * (x + 0.5 - a[0])) >= -1e-9
        grid[y[inside] % height, x[inside] % width] = True
    return grid


def painted_padding(pixels: np.ndarray, covered: np.ndarray) -> int:
    """Texels (steps to eight neighbours) beyond the charts in which nearly all texels still have the colour of the nearest chart texel."""
    if not covered.any() or covered.all():
        return MOST_PADDING
    steps = distance_transform_cdt(~covered, "chessboard")
    _, (row, column) = distance_transform_edt(~covered, return_indices=True)
    off = np.abs(pixels[..., :3].astype(float) - pixels[row, column, :3].astype(float)).max(axis=2)
    padding = 0
    while padding < MOST_PADDING:
        ring = steps == padding + 1
        if not ring.any() or (off[ring] <= SAME_CODES).mean() < 0.95:
            break
        padding += 1
    return padding


def measure_bleed(pixels: np.ndarray, uv: np.ndarray, texels_per_m: float, focal: float) -> Bleed:
    """Bleed horizon of a texture (h, w, 4) whose charts are triangles uv (t, 3, 2), seen square on."""
    height, width = pixels.shape[:2]
    padding = painted_padding(pixels, coverage(uv, width, height))
    base = width * height * 4
    total, w, h = base, width, height
    while max(w, h) > 1:
        w, h = max(w // 2, 1), max(h // 2, 1)
        total += w * h * 4
    return Bleed(padding, safe_mip(padding), texels_per_m, focal, total, base)


@operation("texture.dilate")
def dilate(build: Build, params: dict[str, Any]) -> Build:
    """Continue the charts of `image` by `texels` (or as far as `safe_mip` needs) into its background, where materials use it."""
    key = params.get("image")
    if key not in build.scene.image_keys:
        raise ChangeError(f"image {key!r} does not exist")
    level, texels = params.get("safe_mip"), params.get("texels")
    if level is not None and isinstance(level, int) and 0 <= level <= 6:
        texels = padding_for_mip(level)
    if not isinstance(texels, int) or not 0 < texels <= 256:
        raise ChangeError("texels must be a whole number from 1 to 256, or safe_mip one from 0 to 6")
    index = build.scene.image_keys.index(key)
    image = build.scene.images[index]
    covered = coverage(charts_of_image(build, index), image.pixels.shape[1], image.pixels.shape[0])
    if not covered.any():
        raise ChangeError(f"no chart lies on image {key!r}")
    pixels = dilate_picture(image.pixels, covered, texels)
    images = (*build.scene.images[:index], Image(image.name, freeze(pixels)), *build.scene.images[index + 1 :])
    return replace(build, scene=replace(build.scene, images=images))


@operation("texture.spread_colour")
def spread_colour(build: Build, params: dict[str, Any]) -> Build:
    """Give every clear texel of `image` the colour of the nearest one that is not; alpha stays. ChangeError for an unknown image, or one
    that is clear or solid all over."""
    key = params.get("image")
    if not isinstance(key, str) or key not in build.scene.image_keys:
        raise ChangeError(f"image {key!r} does not exist")
    index = build.scene.image_keys.index(key)
    image = build.scene.images[index]
    clear = image.pixels[..., 3] <= CLEAR
    if clear.all() or not clear.any():
        raise ChangeError(f"image {key!r} has {'nothing but clear texels' if clear.all() else 'no clear texel'}")
    pixels = np.array(image.pixels)
    pixels[..., :3] = spread(image.pixels)
    images = (*build.scene.images[:index], Image(image.name, freeze(pixels)), *build.scene.images[index + 1 :])
    return replace(build, scene=replace(build.scene, images=images))


def spread(pixels: np.ndarray) -> np.ndarray:
    """(h, w, 3) uint8 colours of a picture (h, w, 4), clear texels with that of the nearest one that is not."""
    clear = pixels[..., 3] <= CLEAR
    row, column = distance_transform_edt(clear, return_distances=False, return_indices=True)
    return np.asarray(np.where(clear[..., None], pixels[row, column, :3], pixels[..., :3]))


def charts_of_image(build: Build, image: int) -> np.ndarray:
    """(t, 3, 2) texture UVs of all triangles whose material takes its base colour from an image."""
    rows = [np.zeros((0, 3, 2))]
    for mesh in build.scene.meshes:
        for part in mesh.primitives:
            use = build.scene.materials[part.material].base_texture if part.material is not None else None
            if use is not None and use.image == image and f"TEXCOORD_{use.uv_set}" in part.attributes:
                rows.append(use.turned(part.attributes[f"TEXCOORD_{use.uv_set}"].astype(float))[part.indices])
    return np.concatenate(rows)


def dilate_picture(pixels: np.ndarray, covered: np.ndarray, texels: int) -> np.ndarray:
    """The picture with each background texel within `texels` of a chart given the colour of the nearest chart texel."""
    steps = distance_transform_cdt(~covered, "chessboard")
    _, (row, column) = distance_transform_edt(~covered, return_indices=True)
    take = (steps > 0) & (steps <= texels)
    out = np.array(pixels)
    out[take] = pixels[row[take], column[take]]
    return out


def mean_of_cell(pixels: np.ndarray, level: int) -> np.ndarray:
    """(h >> level, w >> level, 3) linear means of a picture, as its mip level holds them (8-bit rounding left out)."""
    linear = decode(pixels[..., :3] / 255.0)
    n = 2**level
    h, w = linear.shape[0] // n, linear.shape[1] // n
    return np.asarray(linear[: h * n, : w * n].reshape(h, n, w, n, 3).mean(axis=(1, 3)))


__all__ = [
    "Bleed", "charts_of_image", "coverage", "dilate_picture", "mean_of_cell", "measure_bleed", "painted_padding", "spread",
]  # fmt: skip
