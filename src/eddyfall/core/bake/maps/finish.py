"""From gathered light to a lightmap: hidden texels masked, noise smoothed, charts continued into their gutters."""

from dataclasses import dataclass

import numpy as np
from numba import njit, prange
from scipy.ndimage import distance_transform_edt

from eddyfall.core.scene.setup.sections.bake import Bake

HIDDEN_SHARE = 0.9  # a texel is hidden if at least this share of its samples is
SEEN_SHARE = 0.1  # and wholly seen if at most this share is: single rays into cracks do not count
DENOISE_RADIUS = 2
DENOISE_TEXELS = 1.2
NOISE_TOLERANCE = 3.0


@dataclass(frozen=True)
class Raw:
    """What a bake gathered, as pages (h, w): mean and seen_mean (h, w, 3) float32 lux, variance of one sample's luminance, share of
    samples hidden, covered bool, chart int32 (-1: none), over int32 drawable above the texel (-1: none); samples taken."""

    mean: np.ndarray
    seen_mean: np.ndarray
    variance: np.ndarray
    hidden: np.ndarray
    covered: np.ndarray
    chart: np.ndarray
    over: np.ndarray
    samples: int

    @property
    def hidden_texels(self) -> np.ndarray:
        """(h, w) bool: covered texels that nothing can see."""
        return self.covered & (self.hidden >= HIDDEN_SHARE)

    @property
    def noise(self) -> np.ndarray:
        """(h, w) standard error of the luminance, lux: sqrt(variance / samples)."""
        return np.sqrt(self.variance / self.samples)


@dataclass(frozen=True)
class Finish:
    """How a map is finished; see the leaves of the same names in section `bake`."""

    hidden: str = "mask"
    denoise: str = "off"
    dilate_texels: int = 2

    @staticmethod
    def from_bake(bake: Bake) -> "Finish":
        return Finish(bake.hidden, bake.denoise, bake.dilate_texels)


def finished(raw: Raw, how: Finish) -> np.ndarray:
    """(h, w, 3) float32 lux: the map a target stores. Texels that no chart owns and dilation does not reach are black."""
    values, valid = raw.mean, raw.covered
    if how.hidden == "mask":
        partly = (raw.hidden > SEEN_SHARE) & (raw.hidden < HIDDEN_SHARE)
        values = np.where(partly[..., None], raw.seen_mean, raw.mean)
        valid = raw.covered & ~raw.hidden_texels
    values = np.where(valid[..., None], values, 0).astype(np.float32)
    if how.denoise != "off":
        values = denoised(values, raw.noise, valid, raw.chart if how.denoise == "within_charts" else None)
    return dilated(values, valid, raw.covered, how.dilate_texels)


def denoised(values: np.ndarray, noise: np.ndarray, valid: np.ndarray, chart: np.ndarray | None) -> np.ndarray:
    """Noise smoothed by a bilateral mean of 5 x 5 texels whose tolerance follows the measured noise (Tomasi and Manduchi 1998).

    chart (h, w): texels of other charts and empty ones do not count. None: the filter takes the page for a picture, and empty texels
    for black ones, which darkens every border: the fault that thin and lone charts show as black lines.
    """
    out = np.array(values, np.float32)
    same = np.zeros(valid.shape, np.int32) if chart is None else np.asarray(chart, np.int32)
    _bilateral(np.ascontiguousarray(values), np.ascontiguousarray(noise, np.float32), valid, same, chart is None, out)
    return out


@njit(cache=True, parallel=True, nogil=True)
def _bilateral(values, noise, valid, chart, across, out):
    height, width = valid.shape
    for y in prange(height):
        for x in range(width):
            if not valid[y, x]:
                continue
            here = 0.2126 * values[y, x, 0] + 0.7152 * values[y, x, 1] + 0.0722 * values[y, x, 2]
            spread = NOISE_TOLERANCE * noise[y, x] + 0.02 * here + 1e-12
            total = 0.0
            r = g = b = 0.0
            for j in range(max(y - DENOISE_RADIUS, 0), min(y + DENOISE_RADIUS + 1, height)):
                for i in range(max(x - DENOISE_RADIUS, 0), min(x + DENOISE_RADIUS + 1, width)):
                    if not across and (not valid[j, i] or chart[j, i] != chart[y, x]):
                        continue
                    w = np.exp(-0.5 * ((j - y) ** 2 + (i - x) ** 2) / DENOISE_TEXELS**2)
                    if valid[j, i]:
                        there = 0.2126 * values[j, i, 0] + 0.7152 * values[j, i, 1] + 0.0722 * values[j, i, 2]
                        w *= np.exp(-0.5 * ((there - here) / spread) ** 2)
                    total += w
                    r += w * values[j, i, 0]
                    g += w * values[j, i, 1]
                    b += w * values[j, i, 2]
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = r / total, g / total, b / total


def dilated(values: np.ndarray, valid: np.ndarray, covered: np.ndarray, texels: int) -> np.ndarray:
    """Each chart continued by its nearest texel: `texels` steps (to the eight neighbours) into its gutter, and over its hidden texels."""
    if not valid.any() or bool(valid.all()):
        return np.asarray(values)
    _, (row, column) = distance_transform_edt(~valid, return_indices=True)
    y, x = np.mgrid[0 : valid.shape[0], 0 : valid.shape[1]]
    steps = np.maximum(np.abs(row - y), np.abs(column - x))
    take = ~valid & ((steps <= texels) | covered)
    out = np.array(values)
    out[take] = values[row[take], column[take]]
    return out
