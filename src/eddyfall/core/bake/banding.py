"""Banding: how wide the steps are that a lightmap's codes leave in a smooth gradient, and how strong."""

from dataclasses import dataclass

import numpy as np

from eddyfall.core.scene.setup.bake import Encoding
from eddyfall.core.shade.lightmap_codes import exact_codes, from_codes, to_codes

VISIBLE_STEP = 0.01  # a step of 1 % shows on a smooth wall (Weber fraction, common practice)
LEAST_RUNS = 6


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
    for c, m in ((codes, covered), (codes.T, covered.T)):
        width, step, here = _staircase(c, m, encoding, scale)
        widths += width
        steps += step
        texels = max(texels, here)
    if len(widths) < LEAST_RUNS:
        return Bands(1.0, 0.0, 0.0, float(exact.min()), float(exact.max()))
    return Bands(
        float(np.median(widths)), float(np.median(steps)), texels / int(covered.sum()), float(exact.min()), float(exact.max())
    )


def _staircase(codes: np.ndarray, covered: np.ndarray, encoding: Encoding, scale: float) -> tuple[list[int], list[float], int]:
    """(widths, relative step heights, texels that show) of runs along rows."""
    widths: list[int] = []
    heights: list[float] = []
    texels = 0
    for row, there in zip(codes, covered):
        if there.sum() < 3:
            continue
        cuts = np.flatnonzero((np.diff(row) != 0) | ~there[:-1] | ~there[1:])
        starts, ends = np.concatenate([[0], cuts + 1]), np.concatenate([cuts + 1, [len(row)]])
        for k in range(1, len(starts) - 1):
            a, b = int(starts[k]), int(ends[k])
            if not (there[a - 1 : b + 1].all() and b < len(row)):
                continue
            before, after = row[a] - row[a - 1], row[b] - row[a]
            if abs(before) != 1 or before != after:
                continue
            value, after_value = (float(v) for v in from_codes(np.array([row[a], row[b]]), encoding, scale))
            height = abs(after_value - value) / max(min(value, after_value), 1e-12)
            widths.append(b - a)
            heights.append(height)
            if b - a > 1 and height > VISIBLE_STEP:
                texels += b - a
    return widths, heights, texels
