"""Banding: how wide the steps are that a lightmap's codes leave in a smooth gradient, and how strong."""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import uniform_filter

from eddyfall.core.scene.setup.sections.bake import Encoding
from eddyfall.core.shade.lightmap_codes import exact_codes, from_codes, to_codes

VISIBLE_STEP = 0.03  # a step of 3 % shows on a dim, smooth wall (Weber fraction, common practice)
LEAST_RUNS = 6
STRAY = 0.14  # codes that a step strays from the true value on average, a few texels round: dithered and noisy ones do not
AROUND = 3
LEAST_SHARE = 0.02


@dataclass(frozen=True)
class Bands:
    """width_texels: median width of the steps of smooth runs (1 where there are none); step: relative height of one code there;
    share of covered texels that lie in steps wider than one texel and higher than VISIBLE_STEP; codes from, to (not rounded)."""

    width_texels: float
    step: float
    share: float
    low_code: float
    high_code: float

    @property
    def steps(self) -> float:
        """Codes that the map's values span."""
        return self.high_code - self.low_code


def measure_bands(values: np.ndarray, covered: np.ndarray, encoding: Encoding, scale: float, dither: bool = False) -> Bands:
    """Bands of values (h, w, 3) lux once they are stored: runs of one code between single steps that go the same way."""
    y = values.mean(axis=2, keepdims=True)
    inside = y[covered]
    if encoding == "half" or not len(inside):
        return Bands(1.0, 0.0, 0.0, 0.0, 0.0)
    codes = to_codes(y, encoding, scale, dither)[..., 0].astype(np.int64)
    exact = exact_codes(inside, encoding, scale)
    widths, steps, texels = [], [], 0
    off = np.abs(uniform_filter(np.where(covered, codes - exact_codes(y, encoding, scale)[..., 0], 0.0), AROUND))
    for c, m, o in ((codes, covered, off), (codes.T, covered.T, off.T)):
        width, step, here = _staircase(c, m, o, encoding, scale)
        widths += width
        steps += step
        texels = max(texels, here)
    if len(widths) < LEAST_RUNS or texels < LEAST_SHARE * int(covered.sum()):
        return Bands(1.0, 0.0, 0.0, float(exact.min()), float(exact.max()))
    return Bands(
        float(np.median(widths)), float(np.median(steps)), texels / int(covered.sum()), float(exact.min()), float(exact.max())
    )


def _staircase(
    codes: np.ndarray, covered: np.ndarray, off: np.ndarray, encoding: Encoding, scale: float
) -> tuple[list[int], list[float], int]:
    """(widths, relative step heights, texels that show) of runs along rows."""
    # A column of uncovered texels at both ends keeps rows apart once they are laid end to end.
    code = np.pad(codes, ((0, 0), (1, 1))).reshape(-1)
    there = np.pad(covered, ((0, 0), (1, 1))).reshape(-1)
    cut = np.flatnonzero((np.diff(code) != 0) | (there[:-1] != there[1:])) + 1
    start, end = np.concatenate([[0], cut]), np.concatenate([cut, [len(code)]])
    if len(start) < 3:
        return [], [], 0
    value = code[start]
    inside = there[start]
    middle = np.arange(1, len(start) - 1)
    before, after = value[middle] - value[middle - 1], value[middle + 1] - value[middle]
    ladder = np.concatenate([[0.0], np.cumsum(np.pad(off, ((0, 0), (1, 1))).reshape(-1))])
    strays = (ladder[end] - ladder[start]) >= STRAY * (end - start)
    good = middle[
        strays[middle] & (np.abs(before) == 1) & (before == after) & inside[middle] & inside[middle - 1] & inside[middle + 1]
    ]
    if not len(good):
        return [], [], 0
    here, following = (from_codes(value[g], encoding, scale).astype(float) for g in (good, good + 1))
    height = np.abs(following - here) / np.maximum(np.maximum(here, following), 1e-12)
    width = end[good] - start[good]
    shown = (width > 1) & (height > VISIBLE_STEP)
    return width.tolist(), height.tolist(), int(width[shown].sum())
