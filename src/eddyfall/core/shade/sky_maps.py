"""A sky picture as the renderer reads it: its own levels for what is seen and mirrored, and the even light from around each direction.

The even light of a direction n is the exact sum over the picture, E(n) / pi = sum max(n . m, 0) / pi, where m is the first moment of each
cell's light (Lambert's cosine law): a cell as small as the sun's is no coarser for it. Levels halve the picture, each texel the mean by
solid angle of the four below, as environment maps are filtered for rough surfaces (common practice, no source)."""

import math
from typing import NamedTuple

import numpy as np

from eddyfall.core.hashing import freeze

AROUND = (32, 64)  # directions of the even light: rows, columns
CELLS = 64  # rows of cells that it is summed over, at the least
LARGEST = 65504.0  # what is not finite is drawn as the end of half floats
SPREAD = 2.57  # width in rad of a mirrored lobe at half its height, by roughness squared: 4 sqrt(sqrt(2) - 1) of GGX (Walter et al. 2007)


class SkyMaps(NamedTuple):
    """texels (n, 3) float32 nit, levels (k, 3) int64: where each starts, width, height; around (n, 3) float32 nit: even light by
    direction, AROUND of them; turn (2,): cosine and sine of the yaw. No levels: there is no picture."""

    texels: np.ndarray
    levels: np.ndarray
    around: np.ndarray
    turn: np.ndarray


NO_PICTURE = SkyMaps(
    freeze(np.zeros((0, 3), np.float32)), freeze(np.zeros((0, 3), np.int64)), freeze(np.zeros((0, 3), np.float32)),
    freeze(np.array([1.0, 0.0])),
)  # fmt: skip


def make_sky_maps(radiance: np.ndarray | None, nits: float, yaw_deg: float) -> SkyMaps:
    """Maps of a picture (h, w, 3), linear, -Z in the middle, whose 1.0 is so many nits, turned about the vertical; of none for None."""
    if radiance is None:
        return NO_PICTURE
    light = cleaned(radiance, LARGEST) * np.float32(nits)
    levels, flat, offset = [], [], 0
    level: np.ndarray = light
    weight: np.ndarray = solid_of_rows(light.shape[0])[:, None, None].astype(np.float32)
    while True:
        height, width = level.shape[:2]
        levels.append([offset, width, height])
        flat.append(level.reshape(-1, 3))
        offset += width * height
        if height < 4 or height % 2 or width % 2:
            break
        pairs = (level[:, 0::2] + level[:, 1::2]) * weight
        weight = weight[0::2] + weight[1::2]
        level = (pairs[0::2] + pairs[1::2]) / (2 * weight)
    turn = math.radians(yaw_deg)
    return SkyMaps(
        freeze(np.concatenate(flat)), freeze(np.array(levels, np.int64)), freeze(_even_light(light)),
        freeze(np.array([math.cos(turn), math.sin(turn)])),
    )  # fmt: skip


def cleaned(radiance: np.ndarray, ceiling: float) -> np.ndarray:
    """The same (h, w, 3) as new float32: what is no number is dark, what is infinite ends at a ceiling, nothing is negative."""
    light = np.nan_to_num(radiance.astype(np.float32), nan=0.0, posinf=ceiling, neginf=0.0)
    return np.maximum(light, 0.0, out=light)


def _even_light(light: np.ndarray) -> np.ndarray:
    """(n, 3) float32: E(n) / pi for the directions of a small picture. A band of cells at a time: a picture may have millions of pixels."""
    height, width = light.shape[:2]
    step = max(height // CELLS, 1)
    normals, solid = directions_of(*AROUND).reshape(-1, 3), solid_of_rows(height) * (2 * np.pi / width)
    even = np.zeros((len(normals), 3))
    columns = width // step * step
    for top in range(0, height, step):
        rows = slice(top, min(top + step, height))
        share = light[rows].astype(np.float64) * solid[rows, None, None]
        moments = share[:, :, None, :] * directions_of(height, width, rows)[..., None]  # (rows, w, xyz, rgb)
        cut = moments[:, :columns].sum(axis=0).reshape(columns // step, step, 3, 3).sum(axis=1)
        cells = np.concatenate([cut, moments[:, columns:].sum(axis=0)])
        for c in range(3):
            even[:, c] += np.maximum(normals @ cells[:, :, c].T, 0.0).sum(axis=1)
    return np.asarray(even / np.pi, np.float32)


def directions_of(height: int, width: int, rows: slice = slice(None)) -> np.ndarray:
    """(h, w, 3) unit directions of the pixels of an equirectangular picture, or of some of its rows: -Z in the middle, +X to the right of
    it, +Y up."""
    azimuth = (np.arange(width) + 0.5) / width * 2 * np.pi - np.pi
    elevation = (np.pi / 2 - (np.arange(height) + 0.5) / height * np.pi)[rows]
    x = np.cos(elevation)[:, None] * np.sin(azimuth)[None]
    z = -np.cos(elevation)[:, None] * np.cos(azimuth)[None]
    return np.stack([x, np.repeat(np.sin(elevation)[:, None], width, axis=1), z], axis=-1)


def solid_of_rows(height: int) -> np.ndarray:
    """(h,) what a pixel of each row takes of the sphere, for each radian of azimuth; times 2 pi they sum to 4 pi."""
    return -np.diff(np.sin(np.pi / 2 - np.arange(height + 1) / height * np.pi))


def solid_angles(height: int, width: int) -> np.ndarray:
    """(h, w) sr of the pixels; they sum to 4 pi."""
    return np.repeat((2 * np.pi / width * solid_of_rows(height))[:, None], width, axis=1)
